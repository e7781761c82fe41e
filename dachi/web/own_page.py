"""Whose page a private link opens."""

from __future__ import annotations

import hashlib
import hmac
from dataclasses import dataclass

from flask import render_template
from itsdangerous import BadSignature

from dachi.core.words import Happened
from dachi.studio import records
from dachi.studio.record import acts
from dachi.studio.records import Practitioner
from dachi.studio.work import Work
from dachi.web import keys
from dachi.web.private_links import own_signer
from dachi.web.session import db, work_for


@dataclass(frozen=True)
class Own:
    """Whose page a link opens."""

    work: Work
    who: Practitioner
    nonce: str

    @property
    def mark(self) -> str:
        """The same for every link of this person, and told to nobody else."""
        return hmac.new(
            keys.signing()[0], f"person {self.who.id}".encode(), hashlib.sha256
        ).hexdigest()[:16]


def own_of(token: str) -> Own | None:
    """The person whose link this is, None where it is not right or was taken back."""
    try:
        nonce = own_signer().loads(token)
    except BadSignature:
        return None
    found = records.behind_private_link(db(), nonce) if isinstance(nonce, str) else None
    if found is None:
        return None
    work = work_for(found[0])
    who = records.person(work, found[1])
    return Own(work, who, nonce) if who is not None else None


def noted(own: Own, kind: Happened) -> None:
    """Keep that a link was used, once in an hour."""
    acts.note_link(own.work, kind, own.who.id, own.nonce)


def closed() -> tuple[str, int]:
    """The page of a link that opens nothing."""
    sentence = (
        "This link is not right, it was taken back, or nobody opened it for half a year. Ask your "
        "coach for a new one."
    )
    return render_template("phone_end.html", sentence=sentence), 404
