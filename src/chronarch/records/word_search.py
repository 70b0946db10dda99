"""Finding rows by words that people type: each must be in a text of the row, or in one of its tags."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ColumnElement, func, or_, text

_TAG = "exists (select 1 from json_table({}.tags, '$[*]' columns (tag varchar(60) path '$')) tags where {})"


def tagged(table: str, tag: str) -> Any:
    """Whether a row of a table has a tag, in whatever case."""
    return text(_TAG.format(table, "lower(tags.tag) = :tag")).bindparams(tag=tag.lower())


def all_words(search: str, *texts: Any) -> list[ColumnElement[bool]]:
    """A condition for each word: it is in one of the texts."""
    words = func.lower(func.concat_ws(" ", *texts))
    return [func.locate(word, words) > 0 for word in search.lower().split()]


def has_words(table: str, search: str, *texts: Any) -> list[ColumnElement[bool]]:
    """A condition for each word: it is in one of the texts, or in a tag of the table's row."""
    words = func.lower(func.concat_ws(" ", *texts))
    found = []
    for n, word in enumerate(search.lower().split()):
        in_a_tag: Any = text(_TAG.format(table, f"locate(:word_{n}, lower(tags.tag)) > 0"))
        found.append(or_(func.locate(word, words) > 0, in_a_tag.bindparams(**{f"word_{n}": word})))
    return found
