"""How machines say the same things: one row a dialect. docs/protocols/line-link.md shows the table.

Several rows stand for each of the families of firmware that shops meet; they differ in what they say, not in what they
do. In the texts {n} is the line's number, {last} the last one taken, {next} the one wanted, {why} what was wrong with a
line, {line} the line as it came."""

from __future__ import annotations

from dataclasses import dataclass, fields


@dataclass(frozen=True)
class Dialect:
    """One way to say it. Lines are parted by `|`; an empty text is not said."""

    name: str
    ok: str = "ok"
    """The answer that accepts a numbered line."""
    complaint: str = "Error:{why}, last line: {last}|Resend: {next}|ok"
    unknown: str = 'echo:Unknown command: "{line}"|ok'
    """The answer to a word it does not know."""
    busy: str = "echo:busy: processing"
    """What it says now and then while a command takes long."""
    waits: str = ""
    """What it says now and then while it has nothing to do."""
    greeting: str = "start"
    """What it says when it has started."""
    greets_connections: bool = False
    """Whether it also says that when somebody connects, although it has not restarted."""
    echo: str = ""
    """What it says of every line it takes."""
    paused: str = "//action:paused|echo:busy: paused for user"
    resumed: str = "//action:resumed"
    filament_out: str = "//action:out_of_filament T0"

    def say(self, what: str, **values: object) -> list[str]:
        """The lines of one of the texts."""
        text: str = getattr(self, what)
        return [part.format(**values) for part in text.split("|") if part]


DIALECTS = (
    Dialect("plain"),
    Dialect("numbered", ok="ok N{n} P15 B3", complaint="Error:{why}, Last Line: {last}|Resend: {next}|ok"),
    Dialect("number-only", ok="ok {n}", complaint="Error:expected line {next}, got {n}|Resend:{next}|ok", waits="wait"),
    Dialect("terse", complaint="rs {next}", unknown="ok", busy="", greeting=""),
    Dialect("terse-numbered", ok="ok N{n}", complaint="rs N{next}|ok", unknown="ok", busy=""),
    Dialect(
        "shouting", ok="OK", complaint="ERROR: CHECKSUM OR NUMBER WRONG|RESEND: {next}|OK",
        busy="ECHO:BUSY: PROCESSING", unknown='ECHO:UNKNOWN COMMAND: "{line}"|OK', greeting="START",
    ),
    Dialect(
        "greeting", greeting="start|echo: External Reset|echo: free memory 4312", greets_connections=True,
        complaint="Error:Line Number or checksum, Last Line: {last}|Resend: {next}|ok",
    ),
    Dialect("echoing", echo="echo:{line}", unknown="Error:Bad command {line}|ok"),
    Dialect(
        "slashes", unknown='// Unknown command:"{line}"|ok', busy="// busy: waiting for heat",
        complaint="Error:{why}|rs {next}|ok",
    ),
    Dialect(
        "asking", paused="//action:prompt_begin Spool|//action:prompt_choice Continue|//action:prompt_show",
        resumed="//action:prompt_end", filament_out="echo:Filament ran out",
    ),
    Dialect("silent", busy="", unknown="ok", complaint="Error:bad line|Resend: {next}|ok", greeting=""),
)  # fmt: skip
BY_NAME = {dialect.name: dialect for dialect in DIALECTS}


def document() -> str:
    """The table as Markdown: what each dialect says otherwise than the first."""
    plain = DIALECTS[0]
    rows = ["| dialect | says |", "|---|---|"]
    for dialect in DIALECTS:
        said = [
            f"{field.name}: `{str(value).replace('|', ' ⏎ ')}`" if value != "" else f"{field.name}: nothing"
            for field in fields(dialect)[1:]
            for value in [getattr(dialect, field.name)]
            if dialect is plain or getattr(plain, field.name) != value
        ]
        rows.append(f"| {dialect.name} | {'; '.join(said)} |")
    return "\n".join(rows) + "\n"


if __name__ == "__main__":
    print(document(), end="")
