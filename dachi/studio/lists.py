"""The catalogues as pages look things up in them: poses, drills, props, schools, questions."""

from __future__ import annotations

from dachi.core.assessing import permission, runsheet
from dachi.core.catalogue.drills import DIRECTIONS as DIRECTIONS
from dachi.core.catalogue.drills import PHASES as PHASES
from dachi.core.catalogue.drills import POSITIONS as POSITIONS
from dachi.core.catalogue.drills import TISSUES as TISSUES
from dachi.core.catalogue.drills import Drill as Drill
from dachi.core.judging import wording
from dachi.core.practising import timeline
from dachi.core.words import AT_A_VISIT as AT_A_VISIT
from dachi.core.words import IN_PRACTICE as IN_PRACTICE
from dachi.core.words import KNEE_PARTS as KNEE_PARTS
from dachi.core.words import Happened as Happened
from dachi.core.words import Place as Place
from dachi.core.words import as_place as as_place
from dachi.core.words import with_part as with_part
from dachi.data import FONTS as FONTS
from dachi.data import catalogue as catalogue
from dachi.data import cautions as cautions
from dachi.data import chosen_schools as chosen_schools
from dachi.data import cues_under as cues_under
from dachi.data import drills as drills
from dachi.data import gates as gates
from dachi.data import props as props
from dachi.data import schools as schools

#: Every place that may be logged, the parts of a knee after the knee, sides after what has two.
EVERY_PLACE = tuple(
    place
    for one in IN_PRACTICE
    for place in (one, *(with_part(one, part) for part in KNEE_PARTS if one.is_knee), *one.sided)
)
PAIN_KINDS, UNITS, SCOPES = timeline.KINDS, wording.UNITS, permission.SCOPES
plain = wording.plain
minutes_of = runsheet.minutes
