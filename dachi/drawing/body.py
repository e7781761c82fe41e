"""The body from the front and from behind, to point at where it hurts and to see where it did."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from dachi.core.body.figure import Pose3D, bones, landmarks
from dachi.core.body.staging import ANYBODY
from dachi.core.words import Place
from dachi.drawing.axes import number, tag, text, title

_STANCE = {
    f"{s}.{j}": v
    for s in ("left", "right")
    for j, v in (("hip_abduction", 8.0), ("shoulder_abduction", 20.0))
}
#: Half the width of one view and how far the drawing reaches up, cm.
HALF, TOP, FOOT = 42.0, 164.0, 14.0
#: A spot is as large as a fingertip on a phone.
SPOT_CM = 5.6
#: Spots of the left side on the front and on the back: a landmark and a shift (out, up), cm; far
#: enough from each other that a fingertip meets one.
_FRONT = {
    Place.LEFT_HIP_FRONT: ("left.hip", 3.5, 7.0), Place.LEFT_HIP_SIDE: ("left.hip", 15.0, 2.0),
    Place.LEFT_GROIN: ("left.hip", -2.4, -6.0), Place.LEFT_THIGH_FRONT: ("left.hip", 3.5, -21.0),
    Place.LEFT_KNEE: ("left.knee", 0.0, 0.0), Place.LEFT_ANKLE_FOOT: ("left.ankle", 1.0, 2.0),
}  # fmt: skip
_BACK = {
    Place.LEFT_HIP_BACK: ("left.hip", 3.0, 6.0), Place.LEFT_SIT_BONE: ("left.hip", -1.4, -7.0),
    Place.LEFT_THIGH_BACK: ("left.hip", 3.5, -22.0),
    Place.LEFT_KNEE_BACK: ("left.knee", 0.0, 0.0),
}  # fmt: skip
_MIDDLE_FRONT = {
    Place.HEAD: ("head", 0.0, 0.0), Place.SHOULDER: ("left.shoulder", 3.0, 0.0),
    Place.WRIST: ("left.hand", 0.0, 3.0),
}  # fmt: skip
_MIDDLE_BACK = {Place.NECK: ("neck", 0.0, 1.0), Place.LOW_BACK: ("waist", 0.0, 4.0)}
#: Where what was pointed at in words is shown.
_SHOWN_AS = {
    Place.LEFT_HIP: Place.LEFT_HIP_FRONT, Place.RIGHT_HIP: Place.RIGHT_HIP_FRONT,
    Place.LEFT_KNEE_FRONT: Place.LEFT_KNEE, Place.RIGHT_KNEE_FRONT: Place.RIGHT_KNEE,
    Place.LEFT_KNEE_INNER: Place.LEFT_KNEE, Place.RIGHT_KNEE_INNER: Place.RIGHT_KNEE,
    Place.LEFT_KNEE_OUTER: Place.LEFT_KNEE, Place.RIGHT_KNEE_OUTER: Place.RIGHT_KNEE,
}  # fmt: skip


def _mirrored(place: Place) -> Place:
    return Place(place.value.replace("left_", "right_"))


_POINTS = landmarks(ANYBODY, Pose3D("upright", "camera", _STANCE))


def spots(back: bool) -> dict[Place, tuple[float, float]]:
    """The places of one view, each at (x, y) of the drawing, cm."""
    found: dict[Place, tuple[float, float]] = {}
    own, middle = (_BACK, _MIDDLE_BACK) if back else (_FRONT, _MIDDLE_FRONT)
    # Seen from the front somebody's left is on the right of the picture.
    way = -1.0 if back else 1.0
    for place, (mark, out, up) in own.items():
        x, _, z = _POINTS[mark]
        found[place] = (way * (x + out), TOP - (z + up))
        found[_mirrored(place)] = (-way * (x + out), TOP - (z + up))
    for place, (mark, out, up) in middle.items():
        x, _, z = _POINTS[mark]
        found[place] = (way * (x + out), TOP - (z + up))
    return found


def pointing() -> str:
    """Both views with a button at every place: ``data-place`` names it."""

    def button(place: Place, x: float, y: float) -> str:
        return tag(
            "g", title(place.said) + tag("circle", cx=x, cy=y, r=SPOT_CM),
            class_="b-spot", role="button", tabindex="0", data_place=place.value,
            aria_label=place.said,
        )  # fmt: skip

    parts = [
        _view(back, "".join(button(p, x, y) for p, (x, y) in spots(back).items()))
        for back in (False, True)
    ]
    return _both(parts, "Where it hurts: the body from the front and from behind", role="group")


def hurt(times: Mapping[Place, int]) -> str:
    """Both views with a ring at every place that hurt, wider where more often.

    A place whose side nobody said has a ring on either side.
    """
    whole: Counter[Place] = Counter()
    for place, count in times.items():
        known = [_SHOWN_AS.get(p, p) for p in (place.sided or (place,))]
        whole.update(dict.fromkeys(known, count))
    parts = []
    for back in (False, True):
        rings = "".join(
            tag(
                "circle", title(f"{place.said}: {whole[place]} times"), class_="b-ring",
                cx=x, cy=y, r=2.4 + 0.8 * min(whole[place], 6),
            )
            for place, (x, y) in spots(back).items()
            if whole[place]
        )  # fmt: skip
        parts.append(_view(back, rings))
    said = ", ".join(f"{p} {n} times" for p, n in sorted((p.said, n) for p, n in times.items()))
    return _both(parts, f"Where it hurt: {said}")


def _view(back: bool, more: str) -> str:
    way = -1.0 if back else 1.0
    limbs = "".join(
        tag(
            "line", class_="b-limb", x1=way * float(a[0]), y1=TOP - float(a[2]),
            x2=way * float(b[0]) + 0.01, y2=TOP - float(b[2]), stroke_width=float(ra + rb),
        )
        for a, b, ra, rb, _ in bones(ANYBODY, _POINTS)
    )  # fmt: skip
    left, right = (-30.0, 30.0) if back else (30.0, -30.0)
    words = [("left", left), ("right", right), ("behind" if back else "front", 0.0)]
    said = "".join(
        text(w, class_="b-word", x=x, y=TOP + FOOT - 3.0, text_anchor="middle") for w, x in words
    )
    return limbs + said + more


def _both(views: list[str], words: str, role: str = "img") -> str:
    wide = 4 * HALF
    inner = "".join(
        tag("g", view, transform=f"translate({number(x)} 0)")
        for view, x in zip(views, (HALF, 3 * HALF), strict=True)
    )
    return tag(
        "svg", inner, xmlns="http://www.w3.org/2000/svg",
        viewBox=f"0 0 {number(wide)} {number(TOP + FOOT)}", class_="body-map", role=role,
        aria_label=words,
    )  # fmt: skip
