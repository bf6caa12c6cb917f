"""The API as a whole: how it describes itself, and how lists are paged."""

import pytest

from drawknife.core.words.rights import RIGHTS


@pytest.fixture(scope="module")
def described(service):
    with service.http() as http:
        return http.get("/openapi.json").json()


def operations(described):
    for path, methods in described["paths"].items():
        for method, operation in methods.items():
            yield f"{method} {path}", operation


def test_every_operation_is_described(described):
    assert described["openapi"].startswith("3.1")
    for name, operation in operations(described):
        assert operation["summary"], name
        good = [code for code in operation["responses"] if code.startswith("2")]
        assert good, name
        for code, response in operation["responses"].items():
            if code.startswith(("4", "5")):
                assert list(response["content"]) == ["application/problem+json"], (name, code)
        assert "503" in operation["responses"], name


def test_signing_in_is_asked_for_wherever_it_is_needed(described):
    for name, operation in operations(described):
        is_open = name.endswith(("/health", "/sessions", "/reviews", "/reviews/signed"))
        assert bool(operation.get("security")) is not is_open, name
        assert is_open or "401" in operation["responses"], name


def test_all_that_the_client_can_do_is_there(described):
    paths = {p.removeprefix("/api/v1") for p in described["paths"]}
    assert paths >= {
        "/health",
        "/sessions",
        "/model",
        "/model/schema",
        "/findings",
        "/journal",
        "/overview",
        "/accounts",
        "/accounts/{name}",
        "/accounts/{name}/standing",
        "/accounts/{name}/access",
        "/accounts/{name}/listing",
        "/decisions",
        "/decisions/batch",
        "/who",
        "/map",
        "/comparisons",
        "/stores",
        "/folders",
        "/virtual-paths",
        "/endpoints",
    }


@pytest.mark.parametrize(
    ("path", "query", "items"),
    [
        ("/accounts", {}, "accounts"),
        ("/accounts", {"matching": "e"}, "accounts"),
        ("/accounts/ines/access", {}, "rows"),
        ("/who", {"right": "list", "at": "/tides"}, "holders"),
        ("/who", {"right": "upload", "at": "/charts", "but_for": "folder"}, "almost"),
        ("/comparisons", {"one": "ines", "other": "fulmar"}, "differences"),
        ("/journal", {}, "lines"),
    ],
)
def test_pages_put_together_are_the_whole(service, path, query, items):
    with service.http() as http:
        whole = http.get(path, params=query).json()
        together = []
        while len(together) < whole["total"]:
            page = http.get(path, params={**query, "offset": len(together), "limit": 3}).json()
            assert page["total"] == whole["total"] and 1 <= len(page[items]) <= 3
            together += page[items]
        assert together == whole[items]
        assert http.get(path, params={**query, "offset": whole["total"]}).json()[items] == []


def test_windows_of_the_map_put_together_are_the_whole(service):
    with service.http() as http:
        whole = http.get("/map", params={"right": "list"}).json()
        for i in range(0, whole["total_accounts"], 5):
            for j in range(0, whole["total_locations"], 7):
                window = {
                    "right": "list",
                    "account_offset": i,
                    "account_limit": 5,
                    "location_offset": j,
                    "location_limit": 7,
                }
                part = http.get("/map", params=window).json()
                assert part["accounts"] == whole["accounts"][i : i + 5]
                assert part["locations"] == whole["locations"][j : j + 7]
                assert part["cells"] == [row[j : j + 7] for row in whole["cells"][i : i + 5]]


def test_the_map_is_filtered_by_account_group_unit_store_place_and_depth(service):
    with service.http() as http:

        def ask(**query):
            return http.get("/map", params=query).json()

        assert ask(matching="IN")["accounts"] == ["harrow-dredging", "ines"]
        assert ask(group="night-watch")["accounts"] == ["odile", "yuki"]
        assert ask(unit="fleet")["accounts"] == ["fulmar", "kittiwake", "razorbill", "turnstone"]
        assert ask(unit="fleet", group="all-hands", matching="f")["accounts"] == ["fulmar"]
        assert set(ask(store="public")["locations"]) == {"/charts/tables", "/notices", "/tides"}
        assert (
            ask(under="/inbox")["locations"][0] == "/inbox"
            and len(ask(under="/inbox", deepest=0)["locations"]) == 1
        )
        assert http.get("/map", params={"group": "nobody"}).status_code == 404
        words = ask(matching="ines", under="/home")["cells"]
        assert words == [["celmp/adfrw"]]


def test_answers_carry_the_revision(service):
    with service.http() as http:
        for path in ("/accounts", "/accounts/ines/access", "/overview", "/model"):
            assert http.get(path).headers["ETag"] == '"1"'


def test_every_right_can_be_asked_about_everywhere(service):
    """A single decision and the access of an account are the same answer."""
    from drawknife.answers import example_path

    with service.client() as client:
        rows = client.access("yuki").rows
        questions = [
            {"account": "yuki", "action": right, "path": example_path(row.location, right)}
            for row in rows
            for right in RIGHTS
            if right != "rename"
        ]
        answers = iter(client.decide_many(questions))
        for row in rows:
            for right in RIGHTS:
                if right != "rename":
                    answer = next(answers)
                    # With a limit that refuses, the right itself is there.
                    assert (answer["allowed"] or answer["gate"] == "limits") is (
                        row.rights[right] in ("yes", "others")
                    )


@pytest.mark.parametrize(
    ("path", "query", "items"),
    [
        ("/accounts", {}, "accounts"),
        ("/accounts/ines/access", {}, "rows"),
        ("/accounts/ines/listing", {"location": "/charts"}, "folders"),
        ("/who", {"right": "list", "at": "/tides"}, "holders"),
        ("/comparisons", {"one": "ines", "other": "yuki"}, "differences"),
        ("/journal", {}, "lines"),
    ],
)
def test_lists_can_be_had_as_json_lines_and_csv(service, path, query, items):
    import csv
    import io
    import json

    with service.http() as http:
        whole = http.get(path, params=query).json()[items]
        lines = http.get(path, params=query, headers={"Accept": "application/x-ndjson"})
        assert lines.headers["Content-Type"].startswith("application/x-ndjson")
        assert [json.loads(line) for line in lines.text.splitlines()] == whole
        table = list(
            csv.DictReader(
                io.StringIO(http.get(path, params=query, headers={"Accept": "text/csv"}).text)
            )
        )
        assert len(table) == len(whole)
        for row, item in zip(table, whole, strict=True):
            for name, value in item.items():
                if isinstance(value, str):
                    assert row[name] == value


def test_every_reference_in_the_description_leads_somewhere(described):
    def references(value):
        if isinstance(value, dict):
            for key, inner in value.items():
                if key == "$ref":
                    yield inner
                else:
                    yield from references(inner)
        elif isinstance(value, list):
            for inner in value:
                yield from references(inner)

    found = set(references(described))
    assert found
    for reference in found:
        at = described
        for step in reference.removeprefix("#/").split("/"):
            assert step in at, reference
            at = at[step]
