"""Somebody who measures themselves: everything before the first photograph in one command."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping

from dachi.store import practitioners
from dachi.store.day_states import DayState
from dachi.studio.acting import acting
from dachi.studio.record import acts
from dachi.studio.record.asking import Told
from dachi.studio.visits import acts as visiting
from dachi.studio.visits.intake import Refused
from dachi.studio.work import Work

#: The scope of a consent to photographs of oneself: to measure from, and to see.
OWN_SCOPE = "show"
OLDEST_YEARS = 110


def begin(work: Work, name: str, form: Mapping[str, str], told: Told, aims: Collection[str]) -> int:
    """Record oneself, answer the questions, agree to the pictures, open a sheet; the visit's id.

    ``form``: ``birth_year``, ``agree``, ``faces``, ``guardian``, ``warmth``. Raises Refused: then
    nothing is kept.
    """
    year, this_year = form.get("birth_year", "").strip(), work.today().year
    if not year.isdecimal() or not this_year - OLDEST_YEARS <= int(year) <= this_year - 5:
        raise Refused("Give the year you were born: it decides what may be asked of a body.")
    if form.get("agree") != "1":
        raise Refused("Without photographs kept here there is nothing to measure from.")
    if form.get("warmth") not in ("warm", "cold"):
        raise Refused("Say whether you have warmed up.")
    with acting(work):
        pid = acts.add_person(work, {"call_name": name, "birth_year": int(year)})
        who = practitioners.get(work.db, work.coach, pid)
        assert who is not None
        consent = {k: form.get(k, "") for k in ("faces", "guardian")} | {"scope": OWN_SCOPE}
        acts.give_consent(work, who, work.today(), consent)
        acts.answer_screening(work, pid, told)
        return visiting.open_visit(
            work, pid, work.now(), form["warmth"], "", DayState(), still=False,
            aims=list(aims), once_key=secrets.token_urlsafe(12),
        )  # fmt: skip
