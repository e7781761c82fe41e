"""What a person is told when something cannot be done.

Every error whose message is said to somebody derives from ``Told``, which rolls the command back
that met it. The tree, each with the ``code`` that answers made of data carry:

    Told                            told
    ├── NotDone                     not-done       what was asked is not done as it was asked
    │   ├── store: Conflict         conflict       something changed or exists already
    │   ├── core: CameraError       camera         no camera follows from what is known
    │   ├── core: SceneError        scene          a photograph cannot be read
    │   │   └── studio: Unsure      unsure         it can, once that is said again
    │   ├── core: NoPlan            no-plan        no week is left
    │   ├── photos: PhotoError      photo          this is no photograph
    │   │   └── TooMany         too-many       others are being taken in just now
    │   ├── photos: ColourError     colour         this is no sticker's colour
    │   ├── interchange: CocoError  coco           no keypoints are in it
    │   ├── interchange: TableError     table      no readings are in it
    │   ├── interchange: PersonError    person     nobody can be planned for by it
    │   ├── interchange: HistoryError   history    nothing can be judged by it
    │   ├── studio: Refused         refused        as things are this is not done
    │   │   └── AlreadyThere        already-there  the very same is kept
    │   ├── studio: LogProblem      log            no session can be logged by it
    │   ├── studio: NoReminder      no-reminder    nobody needs to be reminded
    │   └── studio: MovingProblem   moving         a record cannot be moved
    └── Trouble                     trouble        the machine is in the way, whatever was asked
        ├── store: StoreError       store          the data folder cannot be used
        │   └── Damaged             damaged        its database is broken
        ├── store: Busy             busy           somebody else is writing for long
        ├── store: DiskTrouble      disk           nothing can be written
        │   └── DiskFull            disk-full      there is no room
        ├── photos: InUse           in-use         another Dachi holds the folder
        └── studio: KeepingProblem  keeping        a copy cannot be made or read

A room says a ``NotDone`` beside the form it came of; a ``Trouble`` has a page and a status.
"""

from __future__ import annotations

from typing import ClassVar


class Told(Exception):
    """Base of every error whose message is said to the person it concerns.

    The message is plain words without what only a log should hold.
    """

    code: ClassVar[str] = "told"

    @property
    def sentence(self) -> str:
        """The message as a sentence that stands by itself."""
        text = str(self)
        return f"{text[:1].upper()}{text[1:]}".rstrip(".") + "."


class NotDone(Told):
    """What was asked is not done as it was asked; whoever asked can ask otherwise."""

    code = "not-done"


class Trouble(Told):
    """The machine is in the way, whatever was asked: a full disk, a lock, a broken file."""

    code = "trouble"


__all__ = ["NotDone", "Told", "Trouble"]
