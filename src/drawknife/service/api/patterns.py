"""Patterns: what is set up again and again, as a few questions."""

from __future__ import annotations

from flask import Response
from pydantic import BaseModel, Field

from drawknife import messages as msg
from drawknife.answers.patterns import pattern as one_pattern
from drawknife.answers.patterns import patterns as every_pattern

from .common import Asking, answer, ask, blueprint, current, problems

api = blueprint("patterns", "What is set up again and again, as a few questions")


class PatternPath(BaseModel):
    name: str = Field(description="The pattern's name")


class Steps(Asking):
    step: int | None = Field(
        None,
        ge=1,
        le=1000,
        description="Only this step of it, from 1 on; all, where it is left out",
    )


@api.get(
    "/patterns", summary="The patterns, with their questions", responses={200: msg.PatternList}
)
def patterns() -> Response:
    return answer(every_pattern(current().pattern_folders))


@api.get(
    "/patterns/<string:name>",
    summary="One pattern",
    responses={200: msg.PatternMessage, **problems(404)},
)
def pattern(path: PatternPath) -> Response:
    return answer(one_pattern(path.name, current().pattern_folders))


@api.post(
    "/patterns/<string:name>/changes",
    summary="The changes that a pattern makes with some answers; nothing is done",
    responses={200: msg.PatternChanges, **problems(404, 413, 415)},
)
def pattern_changes(path: PatternPath, body: msg.PatternAnswers, query: Steps) -> Response:
    asked = ask(query)
    return answer(
        asked.pattern_changes(path.name, body.answers, current().pattern_folders, query.step),
        asked.revision,
    )
