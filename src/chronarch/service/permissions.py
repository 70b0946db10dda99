"""What each route needs: one table, checked in one place."""

from __future__ import annotations

import secrets
from typing import Annotated

from fastapi import Depends, Request

from chronarch.service.context import part_of
from chronarch.service.principals import Callers, Principal
from chronarch.service.problems import ApiProblem
from chronarch.wire.access import Scope

_TABLE = """
/sign-in                                   POST:open
/sign-out                                  POST:read
/me                                        GET:read
/first-person                              GET:open POST:open
/people                                    GET:maintain
/people/{login}                            DELETE:maintain
/people/{login}/export                     GET:maintain
/keys                                      GET:maintain POST:maintain
/keys/{key}                                DELETE:maintain
/models                                    GET:read POST:maintain
/models/paces                              GET:read
/models/reference                          GET:read
/models/{name}                             PUT:maintain
/materials                                 GET:read PUT:maintain
/materials/{name}                          DELETE:maintain
/machines                                  GET:read POST:operate
/machines-found                            POST:maintain
/machines-found/greet                      POST:maintain
/joins                                     POST:maintain
/joins/{join}                              GET:maintain
/joins/{join}/confirmed                    POST:maintain
/machines/{name}                           GET:read PATCH:operate
/machines/{name}/photo                     GET:read PUT:operate DELETE:operate
/machines/{name}/heat                      GET:read
/heat/standing                             GET:read
/machines/{name}/heat.csv                  GET:read
/machines/{name}/power                     POST:operate
/plugs                                     GET:read POST:operate
/plugs/{machine}                           GET:read PATCH:operate DELETE:operate
/plug-profiles                             GET:read
/plug-profiles/{name}                      PUT:operate DELETE:operate
/spools                                    GET:read POST:operate
/spools/{number}                           PATCH:operate
/spools/{number}/load                      POST:operate
/spools/{number}/changes                   GET:read
/machines/{name}/take-out                  POST:operate
/machines/{name}/put-back                  POST:operate
/machines/{name}/emergency-stop            POST:operate
/machines/{name}/do                        POST:operate
/machines/{name}/level-maps                GET:read
/builds/{number}/pause                     POST:operate
/builds/{number}/resume                    POST:operate
/builds/{number}/stop                      POST:operate
/builds/{number}/pauses/{layer}            PUT:operate DELETE:operate
/builds/{number}/filament-change           POST:operate
/builds/{number}/changes                   GET:read
/builds/{number}/skip/preview              POST:operate
/builds/{number}/skip                      POST:operate
/builds/{number}/skip/{name}               DELETE:operate
/machines/{name}/log                       GET:read
/builds/{number}/log                       GET:read PUT:tender
/cameras                                   GET:read POST:operate
/cameras/{name}                            GET:read PATCH:operate DELETE:operate
/cameras/{name}/frame                      GET:read
/cameras/{name}/test                       POST:operate
/cameras/{name}/frames                     GET:read
/builds/{number}/frames                    GET:read
/frames/{number}                           GET:read
/watching/cost                             GET:read
/camera-test                               POST:operate
/local-cameras                             GET:operate
/camera-work                               GET:read
/watching                                  GET:read PATCH:operate
/films                                     GET:read
/films/standing                            GET:read
/films/{number}                            GET:read PATCH:operate DELETE:operate
/films/{number}/file                       GET:read
/films/{number}/picture                    GET:read
/builds/{number}/films                     POST:operate
/contents/{sha256}/head-away               GET:read
/cameras/{name}/bed                        GET:read PUT:operate DELETE:operate
/cameras/{name}/bed/clear                  GET:read
/cameras/{name}/bed/check                  POST:operate
/cameras/{name}/bed/offer                  GET:operate
/suspicions                                GET:read
/suspicions/{number}                       GET:read
/suspicions/{number}/answer                POST:operate
/builds/{number}/missed                    POST:operate
/watch                                     GET:read
/watch/curve                               GET:read
/watch/labelled                            GET:read
/watch-rules                               GET:read
/watch-rules/{scope}/{subject}             GET:read PUT:operate DELETE:operate
/film-rules                                GET:read
/film-rules/{scope}/{subject}              GET:read PUT:operate DELETE:operate
/drop/{name}                               PUT:operate
/drop                                      POST:operate
/drop-from-address                         POST:operate
/drives                                    GET:operate
/drives/entries                            GET:operate
/drop-from-drive                           POST:operate
/drop-script                               GET:read
/hot-folders                               GET:read POST:maintain
/hot-folders/{number}                      PUT:maintain DELETE:maintain
/arrivals                                  GET:read
/arrivals/{number}                         GET:read
/library                                   GET:read
/files                                     GET:read
/files/{which}                             GET:read PATCH:operate
/files/{which}/content                     GET:read
/files/{which}/revisions                   GET:read
/files/{which}/revisions/{number}/restore  POST:operate
/files/{which}/history                     GET:read
/files/{which}/preflight                   GET:read
/files/{which}/overrule                    POST:operate
/blobs/{sha256}                            GET:tender
/files/batch                               POST:operate
/bin                                       DELETE:operate
/folders                                   GET:read POST:operate DELETE:operate
/folders/move                              POST:operate
/files/{which}/preview                     POST:read
/files/{which}/edit                        POST:operate
/files/{which}/difference                  GET:read
/contents/{sha256}                         GET:read
/contents/{sha256}/reading                 GET:read
/contents/{sha256}/layers                  GET:read
/contents/{sha256}/layers/{layer}          GET:read
/contents/{sha256}/shape                   GET:read
/contents/{sha256}/drawing.{kind}          GET:read
/contents/{sha256}/picture                 GET:read
/contents/{sha256}/text                    GET:read
/parts                                     GET:read POST:operate
/parts/suggestions                         GET:read
/parts/{which}                             GET:read PATCH:operate DELETE:operate
/parts/{which}/history                     GET:read
/parts/{which}/model                       GET:read PUT:operate
/parts/{which}/triangles                   GET:read
/jobs                                      GET:read POST:operate
/jobs/{number}                             GET:read PATCH:operate
/jobs/{number}/hold                        POST:operate
/jobs/{number}/release                     POST:operate
/jobs/{number}/withdraw                    POST:operate
/queue                                     GET:read
/queue/move                                POST:operate
/queue/batch                               POST:operate
/orders                                    GET:read POST:operate
/orders/{number}                           GET:read PATCH:operate
/orders/from-csv                           POST:operate
/orders/{number}/cancel                    POST:operate
/orders/{number}/repeat                    POST:operate
/stock                                     GET:read PUT:operate
/builds                                    GET:read
/builds/again                              POST:operate
/builds/export                             GET:read
/builds/views                              GET:read
/builds/views/{name}                       PUT:operate DELETE:operate
/builds/{number}                           GET:read PATCH:operate
/builds/{number}/life                      GET:read
/builds/{number}/layers                    GET:read
/builds/{number}/verdict                   POST:operate
/builds/{number}/photo                     GET:read PUT:operate
/plan                                      GET:read
/what-if                                   POST:read
/jobs/{number}/why                         GET:read
/machines/{name}/start-next                POST:operate
/machines/{name}/start/{job}               POST:operate
/planning                                  GET:read PATCH:operate
/planning/strategies                       GET:read
/hours                                     GET:read PUT:operate
/hours/staffed                             GET:read
/upkeep-windows                            GET:read POST:operate
/upkeep-windows/{number}                   DELETE:operate
/upkeep/tasks                              GET:read POST:maintain
/upkeep/tasks/{number}                     PUT:maintain DELETE:maintain
/upkeep/tasks/{number}/pictures            POST:maintain
/upkeep/tasks/{number}/pictures/{key}      GET:read DELETE:maintain
/upkeep/due                                GET:read
/upkeep/done                               POST:operate
/upkeep/done/{number}                      DELETE:operate
/upkeep/done/{number}/photo                GET:read PUT:operate
/upkeep/log                                GET:read
/upkeep/lateness                           GET:read
/upkeep/parts                              GET:read
/upkeep/calibration                        GET:read
/fleet-state                               GET:read
/fleet-state/firmware                      PUT:maintain
/fleet-state/settings                      POST:operate
/rounds                                    GET:read
/helpers                                   GET:operate POST:operate
/helpers/{number}                          DELETE:operate
/help/rounds                               GET:open
/help/builds/{number}/verdict              POST:open
/me/here                                   POST:read
/me/caught-up                              POST:read
/since                                     GET:read
/notices                                   GET:read
/notices/standing                          GET:read
/notices/read                              POST:read
/notices/{number}                          GET:read
/notices/{number}/told                     GET:read
/notices/{number}/acts/{act}               POST:operate
/notices/{number}/acts/going               DELETE:operate
/notices/{number}/close                    POST:operate
/notice-kinds                              GET:read
/notice-rules                              GET:read POST:read
/notice-rules/try                          POST:read
/notice-rules/{number}                     PUT:read DELETE:read
/channels                                  GET:read POST:read
/channels/{number}                         PATCH:read DELETE:read
/channels/{number}/test                    POST:read
/channels/{number}/log                     GET:read
/channels/{number}/again                   POST:read
/channels/{number}/secret                  POST:read
/push-key                                  GET:read
/notice-settings                           GET:read PATCH:maintain
/notice-event-schema                       GET:read
/act                                       GET:open POST:open
/act/picture                               GET:open
/ledger                                    GET:read
/ledger/rebuild                            POST:maintain
/ledger/roll-up                            POST:maintain
/ledger/verify                             POST:read
/report/turnaround                         GET:read
/report/energy                             GET:read
/report/utilisation                        GET:read
/report/measures                           GET:read
/report/figures                            GET:read
/report/worth                              GET:read
/report/plans                              GET:read POST:maintain
/report/plans/{number}                     PUT:maintain DELETE:maintain
/report/plans/{number}/preview             GET:read
/report/plans/{number}/send                POST:operate
/report/kept                               GET:read
/report/kept/{number}                      GET:read
/report/kept/{number}/pdf                  GET:read
/report/kept/{number}/csv                  GET:read
/costs/settings                            GET:read PUT:maintain
/costs/rates                               GET:read POST:maintain
/costs/rates/{number}                      DELETE:maintain
/builds/{number}/cost                      GET:read
/parts/{which}/cost                        GET:read
/orders/{number}/cost                      GET:read
/report/change-points                      GET:read POST:operate
/report/change-points/{number}/seen        POST:operate
/backups                                   GET:maintain POST:maintain
/backups/trial                             POST:maintain
/backup-settings                           PATCH:maintain
/shop                                      GET:read PATCH:maintain
/first-steps                               GET:maintain PATCH:maintain
/setup-file                                GET:maintain POST:maintain
/setup-file/schema                         GET:read
/storage                                   GET:read
/storage/give-up                           POST:maintain
/health                                    GET:read
/demo/hands                                PUT:operate
/live                                      GET:read
"""
OPEN = None
READING = frozenset({"GET", "HEAD", "OPTIONS"})


def _read(table: str) -> dict[tuple[str, str], Scope | None]:
    found: dict[tuple[str, str], Scope | None] = {}
    for line in table.strip().splitlines():
        path, *rules = line.split()
        for rule in rules:
            method, right = rule.split(":")
            found[method, path] = OPEN if right == "open" else Scope(right)
    return found


RIGHTS = _read(_TABLE)
"""By method and path below `/api`: the right that a request needs, or OPEN. A route without a row lets nobody in."""


async def let_in(request: Request, path: str) -> None:
    """Let a request in, and remember who asks. A change made with a session must carry its CSRF token. Raises
    ApiProblem (401, 403)."""
    right = RIGHTS[request.method, path]
    if right is OPEN:
        return
    who = await part_of(request, Callers).identify(request)
    if not who.may(right):
        raise ApiProblem(403, f"This key may {who.scope}; what you ask needs one that may {right}.")
    token = request.headers.get("x-csrf-token", "")
    if request.method not in READING and who.csrf and not secrets.compare_digest(who.csrf, token):
        raise ApiProblem(403, "The X-CSRF-Token header is missing or wrong; sign in again.")
    request.state.who = who


async def asked_by(request: Request) -> Principal:
    """A dependency: who asks, on a route that is not open to everybody."""
    who: Principal = request.state.who
    return who


Caller = Annotated[Principal, Depends(asked_by)]
