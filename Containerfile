# The service in a container, from Debian's, PyPI's and npm's packages only. Its database is another's:
#   podman build --tag drawknife .
#   podman run --publish 127.0.0.1:8750:8750 --env DRAWKNIFE_DATABASE=postgresql://… --volume drawknife:/var/lib/drawknife drawknife
FROM docker.io/library/debian:trixie-slim AS built
RUN apt-get update && apt-get install --yes --no-install-recommends python3 python3-venv nodejs npm ca-certificates \
    && rm -rf /var/lib/apt/lists/*
WORKDIR /checkout
COPY . .
RUN python3 -m venv /tmp/build && /tmp/build/bin/pip wheel --no-deps --wheel-dir /wheel .

FROM docker.io/library/debian:trixie-slim
RUN apt-get update && apt-get install --yes --no-install-recommends python3 python3-venv postgresql-client ca-certificates \
    && rm -rf /var/lib/apt/lists/* \
    && useradd --system --create-home --home-dir /var/lib/drawknife drawknife
COPY --from=built /wheel /wheel
COPY requirements/run.lock /wheel/
RUN python3 -m venv /opt/drawknife \
    && /opt/drawknife/bin/pip install --no-cache-dir --require-hashes -r /wheel/run.lock \
    && /opt/drawknife/bin/pip install --no-cache-dir --no-deps /wheel/*.whl \
    && ln -s /opt/drawknife/bin/drawknife /usr/local/bin/drawknife && rm -rf /wheel
USER drawknife
VOLUME /var/lib/drawknife
EXPOSE 8750
# Loopback of a container is nobody's: what may come to it is said where it is published.
ENV DRAWKNIFE_HOST=0.0.0.0 DRAWKNIFE_TOKEN_FILE=/var/lib/drawknife/token DRAWKNIFE_KEY_FILE=/var/lib/drawknife/key
HEALTHCHECK CMD python3 -c "import urllib.request; urllib.request.urlopen('http://127.0.0.1:8750/health/ready')"
ENTRYPOINT ["drawknife"]
CMD ["serve"]
