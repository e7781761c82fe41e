"""The simulated mail outbox: messages are written as .eml files and go nowhere.

Every coach has a folder of their own: a message names a person and may hold their link.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from email import policy
from email.message import EmailMessage
from email.parser import BytesParser
from email.utils import format_datetime, make_msgid
from pathlib import Path

from dachi.files import write_once

#: Headers of our own: they leave with no message, as none leaves.
ABOUT, KIND = "X-Dachi-About", "X-Dachi-Kind"
SENDER = "Dachi <studio@dachi.invalid>"


@dataclass(frozen=True)
class Letter:
    """A message of the outbox."""

    name: str
    to: str
    subject: str
    date: str
    text: str
    #: Whom it is about, by a name nobody else has, and what it reminds of; empty in old ones.
    about: str = ""
    kind: str = ""


def send(
    folder: Path,
    to: str,
    subject: str,
    text: str,
    attached: Sequence[tuple[str, bytes]] = (),
    *,
    at: datetime,
    about: str = "",
    kind: str = "",
) -> str:
    """Write a message (RFC 5322) into an outbox folder; return the file's name.

    ``at`` is when it is written, by the wall clock. Raises ValueError where the address or
    subject would break the message's header.
    """
    at = at.astimezone()
    if re.search(r"[\r\n]", to + subject):
        raise ValueError("an address or a subject has one line")
    letter = EmailMessage(policy=policy.SMTP)
    letter["From"], letter["To"], letter["Subject"] = SENDER, to, subject
    letter["Date"] = format_datetime(at)
    letter["Message-ID"] = make_msgid(domain="dachi.invalid")
    letter[ABOUT], letter[KIND] = about, kind
    letter.set_content(text)
    for name, data in attached:
        letter.add_attachment(data, maintype="text", subtype="calendar", filename=name)
    name = f"{at:%Y%m%d-%H%M%S-%f}.eml"
    write_once(folder / name, letter.as_bytes())
    return name


def letters(folder: Path, most: int = 100) -> list[Letter]:
    """Return the outbox, newest first."""
    found = []
    for path in sorted(folder.glob("*.eml"), reverse=True)[:most]:
        message = BytesParser(policy=policy.default).parsebytes(path.read_bytes())
        body = message.get_body(("plain",))
        found.append(
            Letter(
                path.name, str(message["To"]), str(message["Subject"]), str(message["Date"]),
                body.get_content() if body is not None else "",
                str(message[ABOUT] or ""), str(message[KIND] or ""),
            )
        )  # fmt: skip
    return found


def path_of(folder: Path, name: str) -> Path | None:
    """Where a message of the outbox lies; None for a name that is none."""
    if not re.fullmatch(r"[0-9]{8}-[0-9]{6}-[0-9]{6}\.eml", name):
        return None
    path = folder / name
    return path if path.exists() else None
