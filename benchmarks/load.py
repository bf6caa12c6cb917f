"""Loading the large model through the service, against a bare COPY of the same rows."""

from __future__ import annotations

import psycopg
from psycopg import sql

from drawknife.client import Client
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.items import Model
from drawknife.core.words.collecting import many_objects
from drawknife.formats.model_file import read_model, write_model
from drawknife.records.changes import _write
from drawknife.records.database import bring_up_to_date
from drawknife.records.tables import TABLES

from .http import cluster_of_its_own, served
from .large import large_model
from .timing import seconds


def bare_copy(address: str, model: Model) -> float:
    """Seconds for nothing but COPY of the rows that the model has, into tables like the real ones,
    keys included.
    """
    rows = {
        t: [[list(v) if isinstance(v, tuple) else v for v in row] for row in t.rows(model)]
        for t in TABLES
    }
    with psycopg.connect(address) as connection:
        connection.execute("CREATE SCHEMA IF NOT EXISTS bare")
        for name in map(sql.Identifier, dict.fromkeys(t.name for t in TABLES)):
            connection.execute(
                sql.SQL("CREATE TABLE bare.{} (LIKE {} INCLUDING ALL)").format(name, name)
            )
        connection.commit()

        def copy_all() -> None:
            for table, some in rows.items():
                columns = sql.SQL(", ").join(map(sql.Identifier, table.columns))
                query = sql.SQL("COPY bare.{} ({}) FROM STDIN").format(
                    sql.Identifier(table.name), columns
                )
                with connection.cursor().copy(query) as copy:
                    for row in some:
                        copy.write_row(row)
            connection.commit()

        took = seconds(copy_all)
        connection.execute("DROP SCHEMA bare CASCADE")
    return took


def rows_alone(address: str, document: bytes) -> float:
    """Seconds for reading the document, checking it, and writing its rows: without the journal, and
    what follows.
    """

    def read_and_write() -> None:
        with many_objects():
            _write(connection, Model(), read_model(document))

    with psycopg.connect(address) as connection:
        took = seconds(read_and_write)
        connection.rollback()
    return took


def measure() -> list[tuple[str, str, str, bool | None]]:
    model = large_model()
    document = write_model(model, as_json=True).encode()
    with cluster_of_its_own() as cluster:
        address = cluster.create_database("bench")
        with (
            served(address, None) as (port, token),
            Client(f"http://127.0.0.1:{port}", token) as client,
        ):
            empty = b"drawknife: 1"
            loads, copies, rows_only = [], [], []
            other = cluster.create_database("rows")
            bring_up_to_date(other)
            for _ in range(3):
                loads.append(seconds(lambda: client.load(document)))
                rows_only.append(rows_alone(other, document))
                copies.append(bare_copy(address, model))
                client.load(empty)
            people = [m.Account(f"p{i:05}", unit="desk") for i in range(5000)]
            accounts = write_model(
                sound(m.Model(units=("desk",), accounts=tuple(people))), as_json=True
            ).encode()
            adds = [
                {"op": "add", "kind": "account", "item": {"name": p.name, "unit": "desk"}}
                for p in people
            ]
            imports, same = [], []
            for _ in range(3):
                same.append(seconds(lambda: client.load(accounts)))
                client.load(b"drawknife: 1\nunits: [desk]")
                imports.append(seconds(lambda: client.change(adds)))
                client.load(empty)
    as_many = sorted(a / b for a, b in zip(imports, same, strict=True))[1]
    ratio = sorted(a / b for a, b in zip(loads, copies, strict=True))[1]
    alone = sorted(a / b for a, b in zip(rows_only, copies, strict=True))[1]
    rows = sum(1 for t in TABLES for _ in t.rows(model))
    return [
        (
            f"load of {rows:,} rows through the service / COPY alone",
            f"{ratio:.1f} ({min(loads):.2f} s, {min(copies):.2f} s)",
            "within 8",
            ratio <= 8,
        ),
        (
            (
                "reading it, checking it, and writing its rows, without the journal and what"
                " follows / COPY alone"
            ),
            f"{alone:.1f} ({min(rows_only):.2f} s)",
            "within 4",
            alone <= 4,
        ),
        (
            "5,000 accounts added by changes / load of the same",
            f"{as_many:.1f} ({min(imports):.2f} s, {min(same):.2f} s)",
            "within 3",
            as_many <= 3,
        ),
    ]
