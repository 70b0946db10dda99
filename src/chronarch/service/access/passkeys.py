"""Passkeys (Web Authentication, W3C): made on a person's page, and shown to sign in. One is enough by itself: the
device has it, and asks its owner."""

from __future__ import annotations

import json
import secrets
import time
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Annotated, Any
from urllib.parse import urlsplit

from fastapi import Request
from sqlalchemy import select
from webauthn import (
    generate_authentication_options,
    generate_registration_options,
    verify_authentication_response,
    verify_registration_response,
)
from webauthn.helpers import base64url_to_bytes, options_to_json_dict
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from chronarch.records import tables as t
from chronarch.service.access.second_factors import PASSKEY, SecondFactors
from chronarch.service.context import ServiceContext, part
from chronarch.service.problems import ApiProblem
from chronarch.wire import access as w

CHALLENGE_FOR_S, MOST_CHALLENGES = 300.0, 5000
"""How long a challenge waits for its answer, and how many wait at most."""
REFUSED = "This passkey was not taken: "


@dataclass(frozen=True)
class Site:
    """The service as a browser knows it: the name that a passkey is for, and the origin."""

    host: str
    origin: str

    @classmethod
    def of(cls, request: Request) -> Site:
        """Raises ApiProblem (409) where a browser has no passkeys: at a bare address."""
        origin = request.headers.get("origin", "")
        parts = urlsplit(origin)
        if not parts.hostname or parts.netloc != request.headers.get("host", ""):
            raise ApiProblem(409, "Passkeys work in a browser, on the service's own pages.")
        if parts.hostname.replace(".", "").isdigit() or ":" in parts.hostname:
            raise ApiProblem(409, f"Passkeys need a name in place of {parts.hostname}; open the service by its name.")
        return cls(parts.hostname, origin)


@dataclass
class Passkeys:
    """Makes passkeys and takes them in place of a password."""

    context: ServiceContext
    factors: SecondFactors
    _asked: OrderedDict[bytes, tuple[int, float]] = field(default_factory=OrderedDict)
    """Challenges that wait: for whom (0: to sign in), and until when."""

    def _challenge(self, person: int) -> bytes:
        challenge = secrets.token_bytes(32)
        self._asked[challenge] = person, time.monotonic() + CHALLENGE_FOR_S
        while len(self._asked) > MOST_CHALLENGES:
            self._asked.popitem(last=False)
        return challenge

    def _answered(self, text: str, person: int) -> tuple[dict[str, Any], bytes]:
        """A credential, and the challenge that it answers, which is used up. Raises ApiProblem (422)."""
        try:
            credential: dict[str, Any] = json.loads(text)
            said = w.ClientData.model_validate_json(base64url_to_bytes(credential["response"]["clientDataJSON"]))
            challenge = base64url_to_bytes(said.challenge)
        except (KeyError, TypeError, ValueError, RecursionError):
            raise ApiProblem(422, f"{REFUSED}it cannot be read.") from None
        for_whom, until = self._asked.pop(challenge, (-1, 0.0))
        if for_whom != person or until < time.monotonic():
            raise ApiProblem(422, f"{REFUSED}it took too long; try again.")
        return credential, challenge

    async def begin_adding(self, person: t.Person, site: Site) -> w.PasskeyOptions:
        """What a browser makes a passkey from. Raises ApiProblem (409)."""
        async with self.context.sessions() as db:
            await self.factors.check_room(db, person.id)
            mine = select(t.SecondFactor.credential).where(t.SecondFactor.person_id == person.id)
            known = (await db.execute(mine.where(t.SecondFactor.kind == PASSKEY))).scalars()
            options = generate_registration_options(
                rp_id=site.host,
                rp_name=self.context.shop.name,
                user_name=person.login,
                user_id=str(person.id).encode(),
                user_display_name=person.name,
                challenge=self._challenge(person.id),
                authenticator_selection=AuthenticatorSelectionCriteria(
                    resident_key=ResidentKeyRequirement.REQUIRED,
                    user_verification=UserVerificationRequirement.REQUIRED,
                ),
                exclude_credentials=[PublicKeyCredentialDescriptor(id=one) for one in known if one],
            )
        return w.PasskeyOptions(options=options_to_json_dict(options))

    async def add(self, person: int, asked: w.NewPasskey, site: Site, session: str) -> w.SecondFactorAdded:
        """Keep the passkey that a browser has made. Raises ApiProblem (422)."""
        credential, challenge = self._answered(asked.credential, person)
        try:
            made = verify_registration_response(
                credential=credential, expected_challenge=challenge, expected_rp_id=site.host,
                expected_origin=site.origin, require_user_verification=True,
            )  # fmt: skip
        except (WebAuthnException, ValueError, KeyError, TypeError) as error:
            raise ApiProblem(422, f"{REFUSED}{str(error)[:200]}.") from None
        now = self.context.clock.real_now()
        async with self.context.sessions() as db:
            await self.factors.check_room(db, person)
            db.add(
                t.SecondFactor(
                    person_id=person, kind=PASSKEY, name=asked.name, secret=made.credential_public_key,
                    credential=made.credential_id, host=site.host, counted=made.sign_count, confirmed=True,
                    added_at=now,
                )
            )  # fmt: skip
            codes = await self.factors.added(db, person, session)
            await db.commit()
        return w.SecondFactorAdded(recovery_codes=codes)

    def begin(self, site: Site) -> w.PasskeyOptions:
        """What a browser asks a passkey with."""
        options = generate_authentication_options(
            rp_id=site.host, challenge=self._challenge(0), user_verification=UserVerificationRequirement.REQUIRED
        )
        return w.PasskeyOptions(options=options_to_json_dict(options))

    async def owner(self, shown: str, site: Site) -> t.Person:
        """Whose passkey was shown. Raises ApiProblem (401, 422)."""
        credential, challenge = self._answered(shown, 0)
        try:
            which = base64url_to_bytes(credential["id"])
        except (KeyError, TypeError, ValueError):
            raise ApiProblem(422, f"{REFUSED}it cannot be read.") from None
        async with self.context.sessions() as db:
            query = select(t.SecondFactor).where(t.SecondFactor.credential == which, t.SecondFactor.kind == PASSKEY)
            row = (await db.execute(query.with_for_update())).scalar_one_or_none()
            if row is None:
                raise ApiProblem(401, "This passkey is not known here any more; sign in with your password.")
            try:
                proof = verify_authentication_response(
                    credential=credential, expected_challenge=challenge, expected_rp_id=row.host,
                    expected_origin=site.origin, credential_public_key=row.secret,
                    credential_current_sign_count=row.counted, require_user_verification=True,
                )  # fmt: skip
            except (WebAuthnException, ValueError, KeyError, TypeError) as error:
                raise ApiProblem(401, f"{REFUSED}{str(error)[:200]}.") from None
            row.counted, row.last_at = proof.new_sign_count, self.context.clock.real_now()
            person = await db.get_one(t.Person, row.person_id)
            await db.commit()
        return person


ThePasskeys = Annotated[Passkeys, part(Passkeys)]
