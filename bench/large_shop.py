"""A large shop, made by bulk insert: 300 machines, 5,000 files, 2,000 waiting jobs, 200,000 builds of a year and the
million intervals of their ledger."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any, Protocol

from chronarch.core.gcode.analysis import analyse
from chronarch.core.ledger.intervals import OPEN_END
from chronarch.demo.shop import MODELS
from chronarch.wire.gcode import FileReading, WirePlan
from tests.support.gcode import squares

MATERIALS = ("PLA", "PETG", "ABS", "ASA", "TPU", "PC")
COLOURS = ("teal", "ochre", "slate", "white", "blue", "black", "red", "clear")
BUILDS_OF_A_JOB, OPEN_ORDERS, LINES = 4, 400, 4
YEAR_S = 365 * 86400


@dataclass(frozen=True)
class Size:
    """How large the shop is; `builds` are shared out evenly among the machines."""

    machines: int = 300
    files: int = 5000
    waiting: int = 2000
    builds: int = 200_000
    pauses: int = 0
    """How often each build is paused for a minute: two intervals more each time."""

    @property
    def slot_s(self) -> int:
        """How long a build and all that follows it takes a machine."""
        return YEAR_S // (self.builds // self.machines)

    @property
    def run(self) -> str:
        """How long build `seq` takes, s: from 0.4 to 0.85 of its slot, so that an hour is left until its bed is
        clear."""
        return f"({4 * self.slot_s // 10} + seq * 7919 mod {45 * self.slot_s // 100})"


class Cursor(Protocol):
    def execute(self, query: str, args: Any = None) -> Any: ...
    def executemany(self, query: str, args: Any) -> Any: ...


def fill(db: Cursor, size: Size, now: datetime) -> None:
    """Fill empty tables. Builds run until `now`; most machines have one that is not cleared."""
    begin = (now - timedelta(seconds=YEAR_S)).strftime("%Y-%m-%d %H:%M:%S")
    _machines(db, size, now)
    _library(db, size, begin)
    _orders(db, size, begin, now)
    _builds(db, size, begin)
    _uses(db, size)
    _words(db, size)
    _ledger(db, size, begin)


def _machines(db: Cursor, size: Size, now: datetime) -> None:
    db.execute("insert into tender (id, name, epoch, committed) values (1, 'tender', '', 0)")
    specs = [(n, m.name, json.dumps(asdict(m))) for n, m in enumerate(MODELS, 1)]
    db.executemany("insert into model (id, name, spec) values (%s, %s, %s)", specs)
    rows, spools = [], []
    for n in range(1, size.machines + 1):
        material, colour = MATERIALS[n % len(MATERIALS)], COLOURS[n % 7]
        tools = [{"number": 0, "nozzle_mm": 0.6 if n % 9 == 0 else 0.4, "hardened": n % 5 == 0,
                  "material": material, "colour": colour}]  # fmt: skip
        name, state = f"Machine {n:03d}", "building" if n % 5 else "uncleared"
        rows.append((n, name, n % len(MODELS) + 1, f"tcp://127.0.0.1:{20000 + n}", f"tcp 127.0.0.1:{20000 + n}", "open",
                     json.dumps(tools), state, now - timedelta(hours=2), f"Hall {n % 3}", f"A{n}",
                     json.dumps(["everyday"] if n % 4 else ["tough"]),
                     json.dumps(["draughty"] if n % 11 == 0 else [])))  # fmt: skip
        spools.append((n, material, colour, 1000.0, 100.0 + n * 3 % 900, n, 0, now))
    db.executemany(
        "insert into machine (id, name, model_id, tender_id, link, device, intake, tools, state, since, reason,"
        " site, place, pools, tags, releases_left, release_stuck)"
        " values (%s, %s, %s, 1, %s, %s, %s, %s, %s, %s, '', %s, %s, %s, %s, 0, '')",
        rows,
    )
    db.executemany(
        "insert into spool (id, material, colour, grams_full, grams_left, machine_id, tool, place, finished, added_at)"
        " values (%s, %s, %s, %s, %s, %s, %s, '', 0, %s)",
        spools,
    )


def _library(db: Cursor, size: Size, begin: str) -> None:
    analysis = analyse(squares(layers=30, rounds=2, nozzle=205, bed=60).encode(), MODELS[0])
    figures = FileReading.of(analysis, MODELS[0].name).model_dump(mode="json")
    plan = json.dumps(WirePlan.of(analysis.plan).model_dump(mode="json"))
    db.execute("insert into folder (path) select concat('customer ', seq) from seq_0_to_39")
    db.execute("insert into part (id, name, notes, added_at, added_by)"
               f" select seq, concat('part-', seq), '', '{begin}', 'bench' from seq_1_to_200")  # fmt: skip
    db.execute(f"insert into `blob` (sha256, size) select sha2(seq, 256), 1000000 + seq from seq_1_to_{size.files}")
    db.execute(
        "insert into file (id, name, folder, notes, tags, part_id, newest, pieces, added_at, added_by, binned_by,"
        " emptied) select seq, concat('file-', seq, '.gcode'), concat('customer ', seq mod 40), '', '[]',"
        f" if(seq <= 600, seq mod 200 + 1, null), 1, 1 + seq mod 3, '{begin}', 'bench', '', 0"
        f" from seq_1_to_{size.files}"
    )
    columns = "(id, file_id, number, sha256, how, added_at, added_by)"
    said = f"seq, seq, 1, sha2(seq, 256), 'added', '{begin}', 'bench'"
    db.execute(f"insert into revision {columns} select {said} from seq_1_to_{size.files}")
    for n, model in enumerate(MODELS):
        for m, material in enumerate(MATERIALS):
            own = {**figures, "model": model.name, "planned_s": 9000.0 + 600 * n}
            own["declared"] = {**own["declared"], "material": material}
            db.execute(
                "insert into content_reading (sha256, model, planned_s, figures, plan)"
                " select sha2(seq, 256), %s, 6000 + (seq * 137) mod 30000, %s, %s"
                f" from seq_1_to_{size.files} where seq mod {len(MATERIALS)} = {m}",
                (model.name, json.dumps(own), plan),
            )


def _orders(db: Cursor, size: Size, begin: str, now: datetime) -> None:
    """Done orders have four lines of four copies each, all built; those in work have lines that wait."""
    done_jobs = size.builds // BUILDS_OF_A_JOB
    done = done_jobs // LINES
    columns = "(id, customer, note, due_at, tags, cancelled, finished_at, created_at, created_by)"
    at = f"timestampadd(second, seq * {YEAR_S} div {done}, '{begin}')"
    said = f"timestampadd(day, 7, {at}), '[]', 0, timestampadd(day, 5, {at}), {at}, 'bench'"
    db.execute(f"insert into customer_order {columns} select seq, concat('Customer ', seq mod 60), '', {said}"
               f" from seq_1_to_{done}")  # fmt: skip
    today = now.strftime("%Y-%m-%d %H:%M:%S")
    db.execute(f"insert into customer_order {columns} select {done} + seq, concat('Customer ', seq mod 60), '',"
               f" timestampadd(hour, 6 * (seq mod 100), '{today}'), '[]', 0, null, '{today}', 'bench'"
               f" from seq_1_to_{OPEN_ORDERS}")  # fmt: skip
    columns = ("(id, file_id, part_id, copies, held, withdrawn, open, requirement, order_id, from_stock, priority,"
               " due_at, line, top, note, tags, created_at, created_by)")  # fmt: skip
    db.execute(
        f"insert into job {columns} select seq, seq * 7 mod {size.files} + 1, null, {BUILDS_OF_A_JOB}, 0, 0, 0, '{{}}',"
        f" (seq - 1) div {LINES} + 1, 0, 0, null, seq, 0, '', '[]', '{begin}', 'bench' from seq_1_to_{done_jobs}"
    )
    rows = []
    for n in range(1, size.waiting + 1):
        by_part = n % 10 == 0
        needs: dict[str, object] = {} if by_part else {"material": MATERIALS[n % 6], "colour": COLOURS[n * 3 % 8]}
        if n % 13 == 0:
            needs["pool"] = "tough"
        rows.append((
            done_jobs + n, None if by_part else n * 11 % size.files + 1, n % 200 + 1 if by_part else None, 1 + n % 4,
            json.dumps(needs), done + n % OPEN_ORDERS + 1, now + timedelta(hours=6 * (n % 100)), done_jobs + n, now,
        ))  # fmt: skip
    db.executemany(
        f"insert into job {columns} values (%s, %s, %s, %s, 0, 0, 1, %s, %s, 0, 0, %s, %s, 0, '', '[]', %s, 'bench')",
        rows,
    )


def _builds(db: Cursor, size: Size, begin: str) -> None:
    """Build n runs on machine (n - 1) mod machines + 1 in its turn; the last of each machine is not cleared."""
    last = size.builds - size.machines
    turn = f"((seq - 1) div {size.machines} * {size.slot_s} + seq mod {size.machines} * 7)"
    run = size.run
    at = f"timestampadd(second, {turn} + %s, '{begin}')"
    start, end, cleared = at % 0, at % run, at % f"{run} + 3600"
    db.execute(
        "insert into build (id, job_id, copy_number, machine_id, file_id, revision, sha256, state, outcome, reason,"
        " claimed_at, started_at, ended_at, cleared_at, verdict, scrap_reason, judged_by, pieces, good_pieces, let_go,"
        " commands, acknowledged, planned_s, grams, skips, note)"
        f" select seq, (seq - 1) div {BUILDS_OF_A_JOB} + 1, (seq - 1) mod {BUILDS_OF_A_JOB} + 1,"
        f" (seq - 1) mod {size.machines} + 1, ((seq - 1) div {BUILDS_OF_A_JOB} + 1) * 7 mod {size.files} + 1, 1,"
        f" sha2(((seq - 1) div {BUILDS_OF_A_JOB} + 1) * 7 mod {size.files} + 1, 256),"
        f" if(seq > {last} and (seq mod 5), 'building', 'ended'), if(seq > {last} and (seq mod 5), null, 'completed'),"
        f" '', {start}, {start}, if(seq > {last} and (seq mod 5), null, {end}), if(seq > {last}, null, {cleared}),"
        f" if(seq > {last}, null, 'good'), '', 'bench', 1, if(seq > {last}, null, 1), 0, 40000, 20000,"
        f" {run} - 500, 20 + seq mod 90, '[]', '' from seq_1_to_{size.builds}"
    )


def _uses(db: Cursor, size: Size) -> None:
    materials = " ".join(f"when {n} then '{name}'" for n, name in enumerate(MATERIALS))
    db.execute(
        "insert into build_use (build_id, tool, material, colour, nozzle_mm, grams)"
        f" select id, 0, case machine_id mod {len(MATERIALS)} {materials} end, 'teal', 0.4, grams from build"
    )


def _words(db: Cursor, size: Size) -> None:
    """Three of a hundred are scrap, and say why; some were written about or tagged; all that are paused say so."""
    last = size.builds - size.machines
    whys = " ".join(f"when {n} then 'layer shift {n}'" for n in range(20))
    db.execute(f"update build set verdict = 'scrap', good_pieces = 0, scrap_reason = case id mod 20 {whys} end"
               f" where id mod 33 = 7 and id <= {last}")  # fmt: skip
    db.execute(f"update build set outcome = 'failed', reason = 'the nozzle did not reach 215 C' where id mod 101 = 5"
               f" and id <= {last}")  # fmt: skip
    db.execute("update build set note = concat('The bed was cold at ', id, '.') where id mod 97 = 3")
    db.execute("insert into build_tag (tag, build_id) select if(id mod 2, 'winter', 'look at it'), id from build"
               " where id mod 89 = 3")  # fmt: skip
    if size.pauses:
        db.execute("insert into build_stop (build_id, why) select id, 'paused' from build")
        db.execute(
            "insert into build_stop (build_id, why) select id, 'filament ran out' from build where id mod 83 = 9"
        )


PAUSE_EVERY_S, PAUSE_S = 1000, 60


def _ledger(db: Cursor, size: Size, begin: str) -> None:
    """Each build has five intervals, and two for each pause; what follows the last lasts until its machine does
    something else."""
    turn = f"((seq - 1) div {size.machines} * {size.slot_s} + seq mod {size.machines} * 7)"
    run = size.run
    at = f"timestampadd(second, {turn} + %s, '{begin}')"
    laid = 300 + PAUSE_EVERY_S * size.pauses
    edges = ("0", "300", str(laid), run, f"{run} + 600", f"{run} + 3600", str(size.slot_s))
    states = ("warming", "", "building", "cooling", "uncleared", "idle")
    last = size.builds - size.machines
    for n in range(size.pauses):
        begun = 300 + PAUSE_EVERY_S * n
        for state, a, b in (("building", begun, begun + PAUSE_EVERY_S - PAUSE_S),
                            ("paused", begun + PAUSE_EVERY_S - PAUSE_S, begun + PAUSE_EVERY_S)):  # fmt: skip
            db.execute(
                "insert into ledger (machine_id, state, begin_at, end_at, build_id, reason)"
                f" select (seq - 1) mod {size.machines} + 1, '{state}', {at % a}, {at % b}, seq, ''"
                f" from seq_1_to_{size.builds}"
            )
    for state, a, b in zip(states, edges, edges[1:], strict=False):
        if not state:
            continue
        ends = {"building": f"if(seq > {last} and (seq mod 5), '{OPEN_END:%Y-%m-%d}', {at % b})",
                "uncleared": f"if(seq > {last}, '{OPEN_END:%Y-%m-%d}', {at % b})"}.get(state, at % b)  # fmt: skip
        keep = {"cooling": f"seq <= {last} or not (seq mod 5)", "uncleared": f"seq <= {last} or not (seq mod 5)",
                "idle": f"seq <= {last}"}.get(state, "true")  # fmt: skip
        build = "null" if state == "idle" else "seq"
        db.execute(
            "insert into ledger (machine_id, state, begin_at, end_at, build_id, reason)"
            f" select (seq - 1) mod {size.machines} + 1, '{state}', {at % a}, {ends}, {build}, ''"
            f" from seq_1_to_{size.builds} where {keep}"
        )
