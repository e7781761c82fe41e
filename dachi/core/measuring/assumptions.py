"""What no mark shows and every reading must allow for."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Assumptions:
    """Spreads that no mark shows. Degrees and centimetres, one standard deviation.

    ``limb_out_of_plane_sd_deg``: how far a limb points out of the pose's plane.
    ``body_off_centre_sd_cm``: how far the body lies off the mat's centre line.
    ``half_width_sd_cm``: error of the body's half width. ``mark_depth_sd_cm``: a
    single mark's own depth against its plane. ``contact_height_sd_cm``: height of a
    mark said to be on the floor. ``segment_sd_cm``: error of a taped limb length;
    ``untaped_sd_cm``: spread of lengths between people where nobody taped this one's.
    ``frontal_off_sd_cm``: where an upright frontal plane stands when no mark touches the floor.
    """

    limb_out_of_plane_sd_deg: float = 4.0
    body_off_centre_sd_cm: float = 2.0
    half_width_sd_cm: float = 1.0
    mark_depth_sd_cm: float = 0.7
    contact_height_sd_cm: float = 0.7
    segment_sd_cm: float = 0.8
    untaped_sd_cm: float = 3.0
    frontal_off_sd_cm: float = 10.0
