"""Documents that come back damaged, or made to do harm: each is refused in words."""

import json
from io import BytesIO
from random import Random
from zipfile import ZIP_DEFLATED, ZipFile

import pytest

from drawknife.core.words.errors import BadInput
from drawknife.documents import apart

from ..conftest import DEMO, serving
from .test_documents import BOOK, PDF, filled_workbook


def repacked(change):
    """The workbook with its parts changed: `change` gets a name and its bytes."""
    out = BytesIO()
    with ZipFile(BytesIO(BOOK)) as old, ZipFile(out, "w", ZIP_DEFLATED) as new:
        for name in old.namelist():
            new.writestr(name, change(name, old.read(name)))
    return out.getvalue()


def unpacks_to_much():
    return repacked(lambda name, raw: raw + b" " * 2**29 if name.endswith("sheet1.xml") else raw)


def with_entities():
    """Each entity is ten of the one before."""
    named = "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10}">' for n in range(1, 10))
    head = f'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY e0 "ha">{named}]><sst>&e9;</sst>'.encode()
    return repacked(lambda name, raw: head if name.endswith("sharedStrings.xml") else raw)


HOSTILE = {
    "unpacks to much": unpacks_to_much,
    "has entities of entities": with_entities,
    "has no parts": lambda: repacked(lambda name, raw: b""),
    "has no sheet": lambda: repacked(lambda name, raw: raw.replace(b'name="rows"', b'name="cows"')),
    "has no number": lambda: repacked(
        lambda name, raw: raw.replace(b"<t>7</t>", b"<t>seven</t>").replace(b">7<", b">x<")
    ),
    "is cut off": lambda: BOOK[: len(BOOK) // 2],
    "is a PDF cut off": lambda: PDF[: len(PDF) // 3],
    "is a PDF that refers to itself": lambda: (
        b"%PDF-1.7\n1 0 obj<</Type/Catalog/Pages 1 0 R/Kids[1 0 R]/Count 9>>endobj\n"
        b"trailer<</Root 1 0 R/Size 2/Prev 0>>\nstartxref\n9\n%%EOF"
    ),
    "is JSON that is deep": lambda: b"[" * 100_000,
    "has a remark that hides something": (
        lambda: json.dumps(
            {"report": 7, "decided": [{"row": 1, "decision": "keep", "remark": "x\x1b[8m"}]}
        ).encode()
    ),
    "is too large": lambda: b"%PDF" + b" " * 2**24,
}


@pytest.mark.parametrize("made", HOSTILE.values(), ids=HOSTILE.keys())
def test_a_hostile_document_is_refused_in_words(made):
    with pytest.raises(BadInput) as said:
        apart.read(made(), 7)
    assert said.value.where == "document" and said.value.message


def test_damage_anywhere_is_refused_or_does_no_harm():
    """No byte that is another makes it fail in any other way."""
    rng = Random(3)
    whole = filled_workbook(BOOK, {2: "keep"})
    for raw in (whole, PDF):
        for _ in range(3):
            broken = bytearray(raw)
            for _ in range(rng.choice([1, 20, 400])):
                broken[rng.randrange(len(broken))] = rng.randrange(256)
            try:
                apart.read(bytes(broken), 7)
            except BadInput as bad:
                assert bad.message


def test_the_service_answers_a_hostile_document_with_what_is_wrong(address, tmp_path):
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        client.make_report("survey:/inbox")
        with service.http() as http:
            for raw in (
                repacked(lambda name, raw: b""),
                with_entities(),
                b"%PDF",
                json.dumps({"report": []}).encode(),
            ):
                said = http.post(
                    "/reports/1/signed",
                    content=raw,
                    headers={"Content-Type": "application/octet-stream"},
                )
                assert (
                    said.status_code == 400 and said.json()["places"][0]["where"] == "document"
                ), said.text
