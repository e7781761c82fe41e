"""One sentence or two on every page of the coach's: what it is for, and what to do next."""

from __future__ import annotations

from collections.abc import Mapping

#: By endpoint. The bench and the player have their keys instead.
HELP: Mapping[str, str] = {
    "today.page": "Who needs you first, then everybody else in one line each. The button is the "
    "one thing to do next; arrow keys go from person to person.",
    "practitioners.new": "A name and what they come for are enough: the first sheet follows from "
    "it, and everything else can wait until a tape or a quiet minute is at hand.",
    "plan.other": "Search any drill by its name or what it works on; what is closed for this "
    "person says why.",
    "plan.add": "Search any drill and put it into the day; what is closed says why, "
    "and where it fits in the order is found by itself.",
    "myself.begin": "Everything before the first photograph of yourself on one page; all of it can "
    "be changed later.",
    "practitioners.record": "What is kept of a person, their visits, and ways to move or erase "
    "the record.",
    "prepare.page": "Photographs wait for consent, and shots pushed at the end of range for the "
    "screening. Ask, tick, and the visit can begin.",
    "prepare.handover": "What is closed, was practised and is asked, on one page to print; what a "
    "clinician answers is recorded under Prepare.",
    "assessments.new": "What today's visit is for shapes the sheet; how warm and rested the "
    "person is decides what it may be compared with.",
    "assessments.edit": "Correct when and how the visit was done; its readings stay.",
    "assessments.sheet": "The shots of the visit in order, with where the camera stands. Choose a "
    "place, photograph, and the next one is offered.",
    "bench.history": "Every marking of this photograph, the newest first; none is ever lost.",
    "steadiness.again": "Mark the photograph once more without seeing the first marks: it tells "
    "how far your own marking scatters.",
    "review.page": "Say the three sentences, look at the pictures together, agree on what comes "
    "next, and sign the visit off.",
    "report.page": "Choose what the report holds and for whom; it is made in the background.",
    "progress.page": "Each measure across the weeks: a change counts as a first sign, then as "
    "confirmed. Open a name for the whole chart.",
    "compare.page": "Two photographs of one pose laid onto each other at hip and thigh; slide "
    "between them, and read whether the difference is more than chance.",
    "readings.page": "Take in readings that were made elsewhere, from a table: you see what goes "
    "where before anything is kept.",
    "plan.page": "A week of practice with the reason for each drill. Keep, drop or move a drill "
    "and only that day is planned anew.",
    "practise.page": "What was practised and how it felt, and the practitioner's own link.",
    "plan.ladders": "From what is open today to the pose that is wanted: each rung says what it "
    "asks for.",
    "drills.page": "Every drill there is; filter by place, direction and what somebody owns.",
    "drills.card": "What the drill does, how it should and should not feel, and what it asks of "
    "either leg.",
    "letters.page": "Reminders wait here as texts until you send them from your own address.",
    "steadiness.page": "How far readings differ here without any change, where that comes from, "
    "and what would shrink it most.",
    "steadiness.method": "How a photograph becomes an angle and when a change counts, in words for "
    "a practitioner; their own page links to the same.",
    "cards.page": "Print the four cards once and lay them around the mat: every photograph then "
    "knows where its camera stood.",
    "unsorted.page": "Photographs that wait for their place on the sheet: choose one for each.",
    "phone.offer": "Scan the code with a phone: it becomes the camera of this visit alone.",
    "erase.page": "What erasing would take with it, and what backups still hold.",
    "accounts.account": "Your account, how the record is doing, and where it can be moved to.",
    "coaches.page": "Who works on this copy, and links that let another coach in.",
}
