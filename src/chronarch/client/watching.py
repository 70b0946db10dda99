"""Calls about cameras and what they see."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime

from chronarch.client.call import Call, at, some
from chronarch.core.control.film_poses import PoseRun
from chronarch.core.control.film_taking import HeadAway
from chronarch.core.watching.film_settings import FilmScope, FilmSettings
from chronarch.core.watching.watch_rules import WatchRule, WatchScope
from chronarch.wire.common import RequestDone
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching import films as f
from chronarch.wire.watching import watch as x
from chronarch.wire.watching.camera_messages import Size
from chronarch.wire.watching.frames import KeptFrame
from chronarch.wire.watching.settings import FrameCost, Watching, WatchingUpdate


def cameras() -> Call[list[w.Camera]]:
    return Call("GET", "/api/cameras", list[w.Camera])


def camera(name: str) -> Call[w.Camera]:
    return Call("GET", at("cameras", name), w.Camera)


def add_camera(asked: w.NewCamera) -> Call[w.Camera]:
    return Call("POST", "/api/cameras", w.Camera, body=asked)


def change_camera(name: str, change: w.CameraChange) -> Call[w.Camera]:
    return Call("PATCH", at("cameras", name), w.Camera, body=change)


def remove_camera(name: str) -> Call[RequestDone]:
    return Call("DELETE", at("cameras", name), RequestDone)


def frame(name: str, size: Size = "full") -> Call[bytes]:
    """The newest frame, a JPEG."""
    return Call("GET", at("cameras", name, "frame"), bytes, params=some(size=size))


def try_camera(name: str) -> Call[w.CameraTried]:
    """Have a camera take a frame now; takes up to half a minute."""
    return Call("POST", at("cameras", name, "test"), w.CameraTried)


def try_new_camera(asked: w.CameraTest) -> Call[w.CameraTried]:
    """The same for one that is not set up yet."""
    return Call("POST", "/api/camera-test", w.CameraTried, body=asked)


def local_cameras(tender: str = "tender") -> Call[list[w.LocalCamera]]:
    """Cameras at a tender's own computer."""
    return Call("GET", "/api/local-cameras", list[w.LocalCamera], params=some(tender=tender))


def frames_of_build(build: int, camera: str = "") -> Call[list[KeptFrame]]:
    """The kept frames of a build, in their order."""
    return Call("GET", f"/api/builds/{build}/frames", list[KeptFrame], params=some(camera=camera or None))


def frames_of_camera(name: str, begin: datetime | None = None, end: datetime | None = None) -> Call[list[KeptFrame]]:
    """The kept frames of a camera, in their order."""
    return Call("GET", at("cameras", name, "frames"), list[KeptFrame], params=some(begin=begin, end=end))


def kept_frame(number: int) -> Call[bytes]:
    """One kept frame, a JPEG."""
    return Call("GET", f"/api/frames/{number}", bytes)


def frame_cost(keep_every_s: float | None = None) -> Call[FrameCost]:
    """What keeping frames comes to on the disk."""
    return Call("GET", "/api/watching/cost", FrameCost, params=some(keep_every_s=keep_every_s))


def camera_work() -> Call[list[w.CameraWork]]:
    """What cameras cost each tender."""
    return Call("GET", "/api/camera-work", list[w.CameraWork])


def films(
    search: str = "", *, machine: str = "", build: int | None = None, file: int | None = None, part: int | None = None,
    order: int | None = None, job: int | None = None, state: f.FilmState | None = None, ended: bool = False,
) -> Call[list[f.Film]]:  # fmt: skip
    """Films, newest first."""
    asked = {"machine": machine or None, "build": build, "file": file, "part": part, "order": order, "job": job}
    return Call(
        "GET", "/api/films", list[f.Film], params=some(search=search or None, state=state, ended=ended or None, **asked)
    )


def film(number: int) -> Call[f.FilmDetail]:
    return Call("GET", f"/api/films/{number}", f.FilmDetail)


def film_file(number: int) -> Call[bytes]:
    """A film: WebM or MP4, as its settings say."""
    return Call("GET", f"/api/films/{number}/file", bytes)


def film_picture(number: int) -> Call[bytes]:
    """The last picture of a film, a JPEG."""
    return Call("GET", f"/api/films/{number}/picture", bytes)


def ask_for_film(build: int, asked: f.NewFilm) -> Call[f.Film]:
    """Have a further film of a build made."""
    return Call("POST", f"/api/builds/{build}/films", f.Film, body=asked)


def keep_film(number: int, *, kept: bool) -> Call[f.Film]:
    """Say whether a film stays when films come to more than their share of the disk."""
    return Call("PATCH", f"/api/films/{number}", f.Film, body=f.FilmChange(kept=kept))


def remove_film(number: int) -> Call[RequestDone]:
    return Call("DELETE", f"/api/films/{number}", RequestDone)


def film_standing() -> Call[f.FilmStanding]:
    """What films take of the disk."""
    return Call("GET", "/api/films/standing", f.FilmStanding)


def film_rules() -> Call[list[f.FilmRule]]:
    return Call("GET", "/api/film-rules", list[f.FilmRule])


def film_rule(scope: FilmScope, subject: str = "0") -> Call[f.FilmRule]:
    """How films of something are made: a machine by its name, a job, order or file by its number, 0 for the shop."""
    return Call("GET", at("film-rules", scope, subject), f.FilmRule)


def set_film_rule(scope: FilmScope, subject: str, settings: FilmSettings) -> Call[f.FilmRule]:
    return Call("PUT", at("film-rules", scope, subject), f.FilmRule, body=settings)


def drop_film_rule(scope: FilmScope, subject: str) -> Call[f.FilmRule]:
    """Forget a rule. Returns what holds instead."""
    return Call("DELETE", at("film-rules", scope, subject), f.FilmRule)


def head_away(sha256: str, away: HeadAway, model: str = "") -> Call[PoseRun]:
    """What taking the head out of the picture would come to in a file: a dry run."""
    return Call("GET", at("contents", sha256, "head-away"), PoseRun, params=some(model=model or None, **asdict(away)))


def watching() -> Call[Watching]:
    """What the shop has decided about cameras."""
    return Call("GET", "/api/watching", Watching)


def change_watching(change: WatchingUpdate) -> Call[Watching]:
    return Call("PATCH", "/api/watching", Watching, body=change)


def bed_sight(camera: str) -> Call[x.BedSight]:
    """How a camera sees the bed, from the corners that were marked."""
    return Call("GET", at("cameras", camera, "bed"), x.BedSight)


def clear_frame(camera: str) -> Call[bytes]:
    """The frame of the clear bed that others are compared with, a JPEG."""
    return Call("GET", at("cameras", camera, "bed", "clear"), bytes)


def offered_corners(camera: str) -> Call[x.BedSight]:
    """Where the bed's corners may be in a camera's newest picture; nothing is kept."""
    return Call("GET", at("cameras", camera, "bed", "offer"), x.BedSight)


def check_corners(camera: str, corners: list[x.Corner], tip: x.Corner | None = None) -> Call[x.BedSight]:
    """What corners would come to in the newest picture. Nothing is kept."""
    asked = x.BedCorners(corners=corners, tip=tip)
    return Call("POST", at("cameras", camera, "bed", "check"), x.BedSight, body=asked)


def mark_corners(camera: str, corners: list[x.Corner], tip: x.Corner | None = None) -> Call[x.BedSight]:
    """Keep the bed's corners, and the newest picture as that of the clear bed: origin, along x, opposite, along y; and
    perhaps the nozzle's tip."""
    return Call("PUT", at("cameras", camera, "bed"), x.BedSight, body=x.BedCorners(corners=corners, tip=tip))


def forget_corners(camera: str) -> Call[RequestDone]:
    return Call("DELETE", at("cameras", camera, "bed"), RequestDone)


def suspicions(
    machine: str = "", build: int | None = None, *, open: bool = False, unanswered: bool = False
) -> Call[list[x.Suspicion]]:
    """What was suspected, newest first."""
    params = some(machine=machine or None, build=build, open=open or None, unanswered=unanswered or None)
    return Call("GET", "/api/suspicions", list[x.Suspicion], params=params)


def suspicion(number: int) -> Call[x.Suspicion]:
    return Call("GET", f"/api/suspicions/{number}", x.Suspicion)


def answer_suspicion(number: int, *, right: bool) -> Call[x.Suspicion]:
    """Say whether it was so."""
    return Call("POST", f"/api/suspicions/{number}/answer", x.Suspicion, body=x.SuspicionAnswer(right=right))


def watch_missed(build: int, said: x.Missed) -> Call[x.Suspicion]:
    """Say that a build failed and the watch did not see it."""
    return Call("POST", f"/api/builds/{build}/missed", x.Suspicion, body=said)


def watch_standing() -> Call[x.WatchStanding]:
    """Which machines the watch looks at, why not at others, and what it costs."""
    return Call("GET", "/api/watch", x.WatchStanding)


def watch_curve(false_alarms_a_week: float | None = None) -> Call[x.WatchCurve]:
    """What share of failures is caught at which rate of false alarms; and what would be chosen for so many."""
    return Call("GET", "/api/watch/curve", x.WatchCurve, params=some(false_alarms_a_week=false_alarms_a_week))


def watch_rules() -> Call[list[x.WatchRuleView]]:
    return Call("GET", "/api/watch-rules", list[x.WatchRuleView])


def watch_rule(scope: WatchScope, subject: str = "0") -> Call[x.WatchRuleView]:
    """What follows of suspicions: about a machine by its name, a job by its number, 0 for the shop."""
    return Call("GET", at("watch-rules", scope, subject), x.WatchRuleView)


def set_watch_rule(scope: WatchScope, subject: str, rule: WatchRule) -> Call[x.WatchRuleView]:
    return Call("PUT", at("watch-rules", scope, subject), x.WatchRuleView, body=rule)


def drop_watch_rule(scope: WatchScope, subject: str) -> Call[x.WatchRuleView]:
    """Forget a rule. Returns what holds instead."""
    return Call("DELETE", at("watch-rules", scope, subject), x.WatchRuleView)


def labelled_set() -> Call[list[x.LabelledSequence]]:
    """The shop's own labelled set: builds, and beds before a start, of which people have said what they were."""
    return Call("GET", "/api/watch/labelled", list[x.LabelledSequence])


def content_bytes(sha256: str) -> Call[bytes]:
    """A content by its hash: G-code as it is fed."""
    return Call("GET", at("contents", sha256), bytes)
