"""What each route needs: one table, checked in one place."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, replace
from datetime import timedelta
from enum import StrEnum
from typing import Annotated

from fastapi import Depends, Request

from chronarch.core.access.rights import RIGHTS, Reach, Right
from chronarch.records.audit import acts_as
from chronarch.service.context import ServiceContext, part_of
from chronarch.service.principals import Callers, Principal, refusal
from chronarch.service.problems import ApiProblem
from chronarch.service.whereabouts import finder_of
from chronarch.wire.common import SHOW_YOURSELF

_TABLE = """
/sign-in                                   POST:open
/sign-in/passkey/begin                     POST:open~
/sign-in/passkey                           POST:open
/sign-out                                  POST:known
/audit                                     GET:manage_people
/audit.csv                                 GET:manage_people+
/audit/verify                              POST:manage_people~
/audit-settings                            GET:manage_people PUT:manage_people!
/me                                        GET:known PATCH:known
/me/picture                                PUT:known DELETE:known
/me/sessions                               GET:known DELETE:known
/me/sessions/{number}                      DELETE:known
/me/password                               POST:known
/me/shown                                  POST:known
/me/second-factors                         GET:known
/me/second-factors/app                     POST:known!
/me/second-factors/passkey/begin           POST:known~!
/me/second-factors/passkey                 POST:known!
/me/second-factors/{number}                DELETE:known!
/me/second-factors/{number}/confirmed      POST:known
/me/recovery-codes                         POST:known!
/first-person                              GET:open POST:open
/people                                    GET:manage_people
/invites                                   GET:manage_people POST:manage_people!
/invites/{number}                          DELETE:manage_people
/invited                                   GET:open POST:open
/rights                                    GET:see
/roles                                     GET:see
/roles/{name}                              PUT:manage_people! DELETE:manage_people!
/guarded-roles                             GET:see PUT:manage_people!
/teams                                     GET:manage_people
/teams/{name}                              PUT:manage_people! DELETE:manage_people!
/people/{login}                            DELETE:manage_people!
/people/{login}/export                     GET:manage_people+
/people/{login}/picture                    GET:see
/people/{login}/roles                      PUT:manage_people!
/people/{login}/sessions                   GET:manage_people DELETE:manage_people
/people/{login}/second-factors             DELETE:manage_people!
/keys                                      GET:see POST:see!
/keys/{key}                                DELETE:see
/keys/{key}/change                         POST:see!
/models                                    GET:see POST:change_models
/models/paces                              GET:see
/models/reference                          GET:see
/models/{name}                             PUT:change_models
/materials                                 GET:see PUT:change_models
/materials/{name}                          DELETE:change_models
/machines                                  GET:see POST:set_up
/machines-found                            POST:set_up~
/machines-found/greet                      POST:set_up~
/joins                                     POST:set_up
/joins/{join}                              GET:set_up
/joins/{join}/confirmed                    POST:set_up
/machines/{name}                           GET:see PATCH:operate
/machines/{name}/photo                     GET:see PUT:operate DELETE:operate
/machines/{name}/heat                      GET:see
/heat/standing                             GET:see
/machines/{name}/heat.csv                  GET:see
/machines/{name}/power                     POST:operate
/plugs                                     GET:see POST:set_up
/plugs/{machine}                           GET:see PATCH:set_up DELETE:set_up
/plug-profiles                             GET:see
/plug-profiles/{name}                      PUT:set_up DELETE:set_up
/spools                                    GET:see POST:operate@any
/spools/{number}                           PATCH:operate
/spools/{number}/load                      POST:operate@named
/spools/{number}/changes                   GET:see
/machines/{name}/take-out                  POST:operate
/machines/{name}/put-back                  POST:operate
/machines/{name}/emergency-stop            POST:operate
/machines/{name}/do                        POST:operate
/machines/{name}/level-maps                GET:see
/builds/{number}/pause                     POST:operate
/builds/{number}/resume                    POST:operate
/builds/{number}/stop                      POST:operate
/builds/{number}/pauses/{layer}            PUT:operate DELETE:operate
/builds/{number}/filament-change           POST:operate
/builds/{number}/changes                   GET:see
/builds/{number}/skip/preview              POST:operate~
/builds/{number}/skip                      POST:operate
/builds/{number}/skip/{name}               DELETE:operate
/machines/{name}/log                       GET:see
/builds/{number}/log                       GET:see PUT:tender~
/cameras                                   GET:see POST:set_up
/cameras/{name}                            GET:see PATCH:set_up DELETE:set_up
/cameras/{name}/frame                      GET:see
/cameras/{name}/test                       POST:set_up~
/cameras/{name}/frames                     GET:see
/builds/{number}/frames                    GET:see
/frames/{number}                           GET:see
/watching/cost                             GET:see
/camera-test                               POST:set_up~
/local-cameras                             GET:set_up
/camera-work                               GET:see
/watching                                  GET:see PATCH:set_up
/films                                     GET:see
/films/standing                            GET:see
/films/{number}                            GET:see PATCH:operate DELETE:operate
/films/{number}/file                       GET:see
/films/{number}/picture                    GET:see
/builds/{number}/films                     POST:operate
/contents/{sha256}/head-away               GET:see
/cameras/{name}/bed                        GET:see PUT:set_up DELETE:set_up
/cameras/{name}/bed/clear                  GET:see
/cameras/{name}/bed/check                  POST:operate~
/cameras/{name}/bed/offer                  GET:see
/suspicions                                GET:see
/suspicions/{number}                       GET:see
/suspicions/{number}/answer                POST:judge
/builds/{number}/missed                    POST:judge
/watch                                     GET:see
/watch/curve                               GET:see
/watch/labelled                            GET:see
/watch-rules                               GET:see
/watch-rules/{scope}/{subject}             GET:see PUT:set_up DELETE:set_up
/film-rules                                GET:see
/film-rules/{scope}/{subject}              GET:see PUT:set_up DELETE:set_up
/drop/{name}                               PUT:change_files
/drop                                      POST:change_files
/drop-from-address                         POST:change_files
/drives                                    GET:change_files
/drives/entries                            GET:change_files
/drop-from-drive                           POST:change_files
/drop-script                               GET:see
/hot-folders                               GET:see POST:set_up
/hot-folders/{number}                      PUT:set_up DELETE:set_up
/arrivals                                  GET:see
/arrivals/{number}                         GET:see
/library                                   GET:see
/files                                     GET:see
/files/{which}                             GET:see PATCH:change_files
/files/{which}/content                     GET:see
/files/{which}/revisions                   GET:see
/files/{which}/revisions/{number}/restore  POST:change_files
/files/{which}/history                     GET:see
/files/{which}/preflight                   GET:see
/files/{which}/overrule                    POST:overrule
/blobs/{sha256}                            GET:tender
/files/batch                               POST:change_files
/bin                                       DELETE:change_files
/folders                                   GET:see POST:change_files DELETE:change_files
/folders/move                              POST:change_files
/files/{which}/preview                     POST:see~
/files/{which}/edit                        POST:change_files
/files/{which}/difference                  GET:see
/contents/{sha256}                         GET:see
/contents/{sha256}/reading                 GET:see
/contents/{sha256}/layers                  GET:see
/contents/{sha256}/layers/{layer}          GET:see
/contents/{sha256}/shape                   GET:see
/contents/{sha256}/drawing.{kind}          GET:see
/contents/{sha256}/picture                 GET:see
/contents/{sha256}/text                    GET:see
/parts                                     GET:see POST:change_files
/parts/suggestions                         GET:see
/parts/{which}                             GET:see PATCH:change_files DELETE:change_files
/parts/{which}/history                     GET:see
/parts/{which}/model                       GET:see PUT:change_files
/parts/{which}/triangles                   GET:see
/jobs                                      GET:see POST:queue
/jobs/{number}                             GET:see PATCH:queue
/jobs/{number}/hold                        POST:queue
/jobs/{number}/release                     POST:queue
/jobs/{number}/withdraw                    POST:queue
/queue                                     GET:see
/queue/move                                POST:queue
/queue/batch                               POST:queue
/orders                                    GET:see POST:queue
/orders/{number}                           GET:see PATCH:queue
/orders/from-csv                           POST:queue
/orders/{number}/cancel                    POST:queue
/orders/{number}/repeat                    POST:queue
/stock                                     GET:see PUT:queue
/builds                                    GET:see
/builds/again                              POST:queue
/builds/export                             GET:see
/builds/views                              GET:see
/builds/views/{name}                       PUT:operate@any DELETE:operate@any
/builds/{number}                           GET:see PATCH:judge
/builds/{number}/life                      GET:see
/builds/{number}/layers                    GET:see
/builds/{number}/verdict                   POST:judge
/builds/{number}/photo                     GET:see PUT:judge
/plan                                      GET:see
/what-if                                   POST:see~
/jobs/{number}/why                         GET:see
/machines/{name}/start-next                POST:operate
/machines/{name}/start/{job}               POST:operate
/planning                                  GET:see PATCH:set_up
/planning/strategies                       GET:see
/hours                                     GET:see PUT:set_up
/hours/staffed                             GET:see
/upkeep-windows                            GET:see POST:set_up
/upkeep-windows/{number}                   DELETE:set_up
/upkeep/tasks                              GET:see POST:set_up
/upkeep/tasks/{number}                     PUT:set_up DELETE:set_up
/upkeep/tasks/{number}/pictures            POST:set_up
/upkeep/tasks/{number}/pictures/{key}      GET:see DELETE:set_up
/upkeep/due                                GET:see
/upkeep/done                               POST:operate@named
/upkeep/done/{number}                      DELETE:operate
/upkeep/done/{number}/photo                GET:see PUT:operate
/upkeep/log                                GET:see
/upkeep/lateness                           GET:see
/upkeep/parts                              GET:see
/upkeep/calibration                        GET:see
/fleet-state                               GET:see
/fleet-state/firmware                      PUT:set_up
/fleet-state/settings                      POST:set_up
/rounds                                    GET:see
/helpers                                   GET:judge@shop POST:judge@shop
/helpers/{number}                          DELETE:judge@shop
/help/rounds                               GET:open
/help/builds/{number}/verdict              POST:open
/me/here                                   POST:see~
/me/caught-up                              POST:see~
/since                                     GET:see
/notices                                   GET:see
/notices/standing                          GET:see
/notices/read                              POST:see~
/notices/{number}                          GET:see
/notices/{number}/told                     GET:see
/notices/{number}/acts/{act}               POST:operate@named
/notices/{number}/acts/going               DELETE:operate@any
/notices/{number}/close                    POST:operate@named
/notice-kinds                              GET:see
/notice-rules                              GET:see POST:see
/notice-rules/try                          POST:see~
/notice-rules/{number}                     PUT:see DELETE:see
/channels                                  GET:see POST:see
/channels/{number}                         PATCH:see DELETE:see
/channels/{number}/test                    POST:see
/channels/{number}/log                     GET:see
/channels/{number}/again                   POST:see
/channels/{number}/secret                  POST:see
/push-key                                  GET:see
/notice-settings                           GET:see PATCH:set_up
/notice-event-schema                       GET:see
/act                                       GET:open POST:open
/act/picture                               GET:open
/ledger                                    GET:see
/ledger/rebuild                            POST:set_up
/ledger/roll-up                            POST:set_up
/ledger/verify                             POST:see~
/report/turnaround                         GET:see
/report/energy                             GET:see
/report/utilisation                        GET:see
/report/measures                           GET:see
/report/figures                            GET:see
/report/worth                              GET:see
/report/plans                              GET:see POST:set_up
/report/plans/{number}                     PUT:set_up DELETE:set_up
/report/plans/{number}/preview             GET:see
/report/plans/{number}/send                POST:set_up
/report/kept                               GET:see
/report/kept/{number}                      GET:see
/report/kept/{number}/pdf                  GET:see
/report/kept/{number}/csv                  GET:see
/costs/settings                            GET:see PUT:spend
/costs/rates                               GET:see POST:spend
/costs/rates/{number}                      DELETE:spend
/builds/{number}/cost                      GET:see
/parts/{which}/cost                        GET:see
/orders/{number}/cost                      GET:see
/report/change-points                      GET:see POST:operate@any
/report/change-points/{number}/seen        POST:operate@any
/backups                                   GET:set_up POST:set_up
/backups/trial                             POST:set_up
/backup-settings                           PATCH:set_up
/shop                                      GET:see PATCH:set_up
/first-steps                               GET:set_up PATCH:set_up
/setup-file                                GET:set_up+ POST:set_up!
/setup-file/schema                         GET:see
/storage                                   GET:see
/storage/give-up                           POST:set_up!
/health                                    GET:see
/demo/hands                                PUT:operate@any~
/live                                      GET:see
"""
FRESH_FOR = timedelta(minutes=30)
"""How long it holds that somebody has shown who they are."""
READING = frozenset({"GET", "HEAD", "OPTIONS"})
SIGNING_IN = frozenset({"/sign-in", "/sign-in/passkey", "/me/shown", "/invited", "/first-person", "/act"})
"""Where whoever is refused is not known yet."""


class Asked(StrEnum):
    """What a route asks for: nothing; that somebody is known; or a right, `AT` the machine that its path names, by the
    machine that its body names (`NAMED`: the route itself looks), held for any place, or for the whole shop."""

    OPEN = "open"
    KNOWN = "known"
    AT = "at"
    NAMED = "named"
    ANY = "any"
    SHOP = "shop"


@dataclass(frozen=True)
class Rule:
    """What one route asks for; `right` is null where it asks for none. `!` in the table stands for `fresh`."""

    asked: Asked
    right: Right | None = None
    fresh: bool = False
    """Whether a person must have shown lately who they are: it is dangerous in a session that somebody else uses."""
    told: bool = False
    """Whether the audit tells of it: of all that is no reading (`+`: of this reading, too), but not of what changes
    nothing that anybody would ask for (`~`)."""


def _read(table: str) -> dict[tuple[str, str], Rule]:
    found: dict[tuple[str, str], Rule] = {}
    for line in table.strip().splitlines():
        path, *rules = line.split()
        for rule in rules:
            method, needs = rule.split(":")
            words = needs.rstrip("!~+")
            told = "~" not in needs if method not in READING else "+" in needs
            found[method, path] = replace(_rule(path, *words.split("@")), fresh="!" in needs, told=told)
    return found


def _rule(path: str, needs: str, held: str = "") -> Rule:
    if needs in (Asked.OPEN, Asked.KNOWN):
        return Rule(Asked(needs))
    right = Right(needs)
    if held:
        return Rule(Asked(held), right)
    reach = RIGHTS[right].reach
    if reach is Reach.MACHINE:
        assert finder_of(path) is not None, f"{path} names no machine: say @any, @named or @shop"
        return Rule(Asked.AT, right)
    return Rule(Asked.ANY if reach is Reach.ANYWHERE else Asked.SHOP, right)


RULES = _read(_TABLE)
"""By method and path below `/api`: what a request must have. A route without a row lets nobody in."""


async def let_in(request: Request, path: str) -> None:
    """Let a request in, and remember who asks. A change made with a session must carry its CSRF token. Raises
    ApiProblem (401, 403)."""
    rule = RULES[request.method, path]
    if rule.asked is Asked.OPEN:
        return
    who = request.state.who = await part_of(request, Callers).identify(request)
    acts_as(who.identity)
    if rule.right is not None:
        find = finder_of(path) if rule.asked is Asked.AT else None
        if not who.may(rule.right) or (rule.asked is Asked.SHOP and not who.held.everywhere(rule.right)):
            raise refusal(who, rule.right)
        if find is not None and not who.held.everywhere(rule.right):
            who.must(rule.right, await find(request))
    token = request.headers.get("x-csrf-token", "")
    if request.method not in READING and who.csrf and not secrets.compare_digest(who.csrf, token):
        raise ApiProblem(403, "The X-CSRF-Token header is missing or wrong; sign in again.")
    if rule.fresh and part_of(request, ServiceContext).clock.real_now() - who.shown_at > FRESH_FOR:
        raise ApiProblem(403, "Show again who you are, then do this once more.", SHOW_YOURSELF)


async def asked_by(request: Request) -> Principal:
    """A dependency: who asks, on a route that is not open to everybody."""
    who: Principal = request.state.who
    return who


Caller = Annotated[Principal, Depends(asked_by)]
