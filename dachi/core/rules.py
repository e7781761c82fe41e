"""Numbers that more than one rule goes by: each has its one home here."""

from __future__ import annotations

#: 95 % of a normal distribution lie within so many standard deviations.
Z95 = 1.959964
#: 95 % lie below so many above the mean.
ONE_SIDED_Z95 = 1.644854
#: The spread of a difference of two values as wide as each other, against that of one.
DIFFERENCE = 2.0**0.5
#: For so long after pain what loads the place is left out, and it belongs to what a visit shows.
PAIN_DAYS = 14
#: Pain is news on Today, and eases the drill that hurt, for so long.
PAIN_NEWS_DAYS = 7
#: The same place again within so many days, so often, is for a clinician.
RECUR_DAYS, RECUR_TIMES = 28, 2
