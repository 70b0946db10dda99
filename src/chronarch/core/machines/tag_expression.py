"""Tags with `and`, `or`, `not` and brackets, as a requirement says them: `"food safe" and not (wide or draughty)`.

any    = all {"or" all}
all    = one {"and" one}
one    = "not" one | "(" any ")" | TAG | '"' words '"'
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection
from dataclasses import dataclass

from chronarch.core.errors import CoreError

_TOKEN = re.compile(r'\s*(?:"([^"]*)"|([()])|([^\s()"]+))')


class BadTags(CoreError):
    """An expression of tags that cannot be read: what was wrong, and where."""


@dataclass(frozen=True)
class TagExpression:
    """A parsed expression: `kind` is tag, not, and, or."""

    kind: str
    tag: str = ""
    parts: tuple[TagExpression, ...] = ()

    def met_by(self, tags: Collection[str]) -> bool:
        """Whether a machine with these tags meets it; upper and lower case are one."""
        match self.kind:
            case "tag":
                return self.tag.lower() in {t.lower() for t in tags}
            case "not":
                return not self.parts[0].met_by(tags)
            case "and":
                return all(p.met_by(tags) for p in self.parts)
        return any(p.met_by(tags) for p in self.parts)


def parse_tags(text: str) -> TagExpression | None:
    """The expression in a text; None for an empty one. Raises BadTags."""
    words: list[tuple[str, bool]] = []
    at = 0
    text = text.rstrip()
    while at < len(text):
        found = _TOKEN.match(text, at)
        if found is None:
            raise BadTags(f'The tags {text!r} have a quotation mark that is never closed; close it with ".')
        quoted, bracket, word = found.groups()
        words.append((quoted, True) if quoted is not None else (bracket or word, False))
        at = found.end()
    if not words:
        return None
    reader = _Reader(words, text)
    tree = reader.any()
    if reader.at < len(words):
        raise BadTags(
            f"The tags {text!r} are not understood from {words[reader.at][0]!r} on; join tags with and, or, not."
        )
    return tree


class _Reader:
    def __init__(self, words: list[tuple[str, bool]], text: str) -> None:
        self.words, self.text, self.at = words, text, 0

    def next_is(self, word: str) -> bool:
        if self.at < len(self.words) and self.words[self.at] == (self.words[self.at][0], False):
            return self.words[self.at][0].lower() == word
        return False

    def any(self) -> TagExpression:
        return self._joined("or", self.all)

    def all(self) -> TagExpression:
        return self._joined("and", self.one)

    def _joined(self, word: str, part: Callable[[], TagExpression]) -> TagExpression:
        parts = [part()]
        while self.next_is(word):
            self.at += 1
            parts.append(part())
        return parts[0] if len(parts) == 1 else TagExpression(word, parts=tuple(parts))

    def one(self) -> TagExpression:
        if self.at >= len(self.words):
            raise BadTags(f"The tags {self.text!r} end where a tag is expected.")
        word, quoted = self.words[self.at]
        self.at += 1
        if quoted:
            return TagExpression("tag", word)
        if word.lower() == "not":
            return TagExpression("not", parts=(self.one(),))
        if word == "(":
            inner = self.any()
            if not self.next_is(")"):
                raise BadTags(f"The tags {self.text!r} have a bracket that is never closed.")
            self.at += 1
            return inner
        if word == ")" or word.lower() in ("and", "or"):
            raise BadTags(f"The tags {self.text!r} have {word!r} where a tag is expected.")
        return TagExpression("tag", word)
