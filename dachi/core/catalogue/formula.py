"""The small language in which pose data states measures and checks.

An expression such as ``180 - angle(shoulder, hip, front_knee)`` names marks and
earlier measures. It is parsed once, when the catalogue loads, and evaluated on
whole batches of solved points, so one call gives the value and every perturbed
value that the uncertainty needs.

Points are arrays of shape (samples, 3) in centimetres (or picture units where
nothing calibrates the picture). ``plane`` chooses the two coordinates of the
pose's plane: ``upright`` is (forward or outward, up), ``floor`` is (right, away).
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


class FormulaError(ValueError):
    """The expression is not in the language; the message says which part."""


@dataclass(frozen=True)
class Frame:
    """What an expression is evaluated in.

    ``points``: mark id to (samples, 3). ``forward``: +1 or -1, the picture
    direction of the feet or the front leg. ``outward``: the same for the side
    being measured in a front view. ``plane``: ``upright`` or ``floor``. ``angles`` are joint
    angles of a reconstructed body, (samples,) degrees.
    """

    points: Mapping[str, Array]
    plane: str
    forward: float
    values: dict[str, Array] = field(default_factory=dict)
    laid: dict[str, Array] = field(default_factory=dict)
    angles: Mapping[str, Array] = field(default_factory=dict)

    def flat(self, name: str) -> Array:
        """Return a mark in the pose's plane, shape (samples, 2)."""
        if name not in self.laid:
            p = self.points[name]
            if self.plane == "floor":
                self.laid[name] = p[:, :2]
            else:
                self.laid[name] = p[:, ::2] * (self.forward, 1.0)
        return self.laid[name]

    def line(self, a: str, b: str) -> Array:
        """Return the directed line a to b in the pose's plane, (samples, 2)."""
        return self.flat(b) - self.flat(a)


def _signed(u: Array, v: Array) -> Array:
    """Signed angle from u to v in degrees, anticlockwise positive, (-180, 180]."""
    ux, uy, vx, vy = u[:, 0], u[:, 1], v[:, 0], v[:, 1]
    return np.asarray(np.degrees(np.arctan2(ux * vy - uy * vx, ux * vx + uy * vy)))


def _unfold(signed: Array) -> Array:
    """Magnitude of a signed angle, following the branch of the first sample.

    Taking the absolute value sample by sample would fold noise at 0 and hide it
    from the derivative; following one branch keeps the slope.
    """
    base = signed[0]
    near = base + (signed - base + 180.0) % 360.0 - 180.0
    return np.asarray(near if base >= 0 else -near)


def _angle(f: Frame, a: str, b: str, c: str) -> Array:
    return _unfold(_signed(f.line(b, a), f.line(b, c)))


def _between(f: Frame, a: str, b: str, c: str, d: str) -> Array:
    return _unfold(_signed(f.line(a, b), f.line(c, d)))


def _between_space(f: Frame, a: str, b: str, c: str, d: str) -> Array:
    u = f.points[b] - f.points[a]
    v = f.points[d] - f.points[c]
    cross = np.linalg.norm(np.cross(u, v), axis=1)
    return np.asarray(np.degrees(np.arctan2(cross, (u * v).sum(axis=1))))


def _bend(f: Frame, a: str, b: str, c: str) -> Array:
    return _unfold(_signed(f.line(a, b), f.line(b, c)))


def _follow(angle: Array) -> Array:
    """Unwrap samples to within half a turn of the first."""
    return np.asarray(angle[0] + (angle - angle[0] + 180.0) % 360.0 - 180.0)


def _rise(f: Frame, a: str, b: str) -> Array:
    d = f.line(a, b)
    angle = _follow(np.degrees(np.arctan2(d[:, 1], d[:, 0])))
    # A leg past the vertical reads past 90; one just under the floor reads negative.
    return angle + 360.0 if angle[0] < -120.0 else angle


def _slope(f: Frame, a: str, b: str) -> Array:
    """Angle of the line above level, whichever way it points, -90 to 90."""
    d = f.line(a, b)
    sign = -1.0 if d[0, 0] < 0 else 1.0
    return _follow(np.degrees(np.arctan2(d[:, 1], sign * d[:, 0])))


def _lean(f: Frame, a: str, b: str) -> Array:
    d = f.line(a, b)
    return _follow(np.degrees(np.arctan2(d[:, 0], d[:, 1])))


def _hang(f: Frame, a: str, b: str) -> Array:
    d = f.line(a, b)
    return _follow(np.degrees(np.arctan2(d[:, 0], -d[:, 1])))


def _through_floor(f: Frame, front_hip: str, front: str, back_hip: str, back: str) -> Array:
    turn = _signed(f.line(back_hip, back), f.line(front_hip, front)) % 360.0
    return _follow(turn)


def _turn(f: Frame, a: str, b: str) -> Array:
    d = f.points[b] - f.points[a]
    sign = -1.0 if d[0, 0] < 0 else 1.0
    return _follow(np.degrees(np.arctan2(d[:, 1], sign * d[:, 0])))


def _opening(f: Frame, a: str, b: str) -> Array:
    """Turn on the floor from straight ahead (towards the camera) to the outside."""
    d = f.points[b] - f.points[a]
    return _follow(np.degrees(np.arctan2(f.forward * d[:, 0], -d[:, 1])))


def _sideways(f: Frame, a: str, b: str, c: str, d: str) -> Array:
    """How far c-d opens out of the upright plane through a-b, however high it is lifted."""
    along = (f.points[b] - f.points[a])[:, :2]
    along = along / np.linalg.norm(along, axis=1, keepdims=True)
    limb = f.points[d] - f.points[c]
    ahead = (limb[:, :2] * along).sum(axis=1)
    out = limb[:, 0] * -along[:, 1] + limb[:, 1] * along[:, 0]
    in_plane = np.hypot(ahead, limb[:, 2]) * np.where(ahead < 0, -1.0, 1.0)
    return _unfold(np.degrees(np.arctan2(out, in_plane)))


def _ratio(f: Frame, a: str, b: str, c: str, d: str) -> Array:
    return np.asarray(_gap(f, a, b) / _gap(f, c, d))


def _height(f: Frame, p: str) -> Array:
    return np.asarray(f.points[p][:, 2])


def _gap(f: Frame, p: str, q: str) -> Array:
    return np.asarray(np.linalg.norm(f.points[q] - f.points[p], axis=1))


def _ahead(f: Frame, p: str, q: str) -> Array:
    return np.asarray(f.forward * (f.points[q][:, 0] - f.points[p][:, 0]))


def _drop(f: Frame, p: str, q: str) -> Array:
    return f.points[q][:, 2] - f.points[p][:, 2]


@dataclass(frozen=True)
class Function:
    """A formula kind: how many marks it takes, which unit it gives, whether it looks at depth."""

    call: Callable[..., Array]
    arity: int
    unit: str
    deep: bool = False


FUNCTIONS: dict[str, Function] = {
    "angle": Function(_angle, 3, "deg"),
    "between": Function(_between, 4, "deg"),
    "between_space": Function(_between_space, 4, "deg", deep=True),
    "bend": Function(_bend, 3, "deg"),
    "rise": Function(_rise, 2, "deg"),
    "slope": Function(_slope, 2, "deg"),
    "lean": Function(_lean, 2, "deg"),
    "hang": Function(_hang, 2, "deg"),
    "through_floor": Function(_through_floor, 4, "deg"),
    "turn": Function(_turn, 2, "deg", deep=True),
    "opening": Function(_opening, 2, "deg", deep=True),
    "sideways": Function(_sideways, 4, "deg", deep=True),
    "ratio": Function(_ratio, 4, "ratio"),
    "height": Function(_height, 1, "cm"),
    "gap": Function(_gap, 2, "cm"),
    "ahead": Function(_ahead, 2, "cm"),
    "drop": Function(_drop, 2, "cm"),
}

#: Points that every body has, marked or not: the hip of the measured side and the other.
HIPS = frozenset({"own_hip", "other_hip"})
#: Joint angles of a reconstructed body, by the side they are on.
ANGLES = frozenset(
    f"{side}_{joint}"
    for side in ("own", "other", "left", "right")
    for joint in ("hip_flexion", "hip_abduction", "hip_rotation", "knee_flexion", "ankle_flexion")
) | {"pelvis_turn", "pelvis_tilt", "pelvis_list", "spine_flexion", "spine_side"}

_COMBINE: dict[str, Callable[..., Array]] = {
    "max": lambda *v: np.maximum.reduce(np.broadcast_arrays(*v)),
    "min": lambda *v: np.minimum.reduce(np.broadcast_arrays(*v)),
    "abs": lambda v: np.asarray(v * (-1.0 if v[0] < 0 else 1.0)),
}

_OPERATORS: dict[type[ast.operator], Callable[[Array, Array], Array]] = {
    ast.Add: lambda a, b: a + b,
    ast.Sub: lambda a, b: a - b,
    ast.Mult: lambda a, b: a * b,
    ast.Div: lambda a, b: a / b,
}

Evaluator = Callable[[Frame], Array]


@dataclass(frozen=True)
class Formula:
    """A parsed expression: its text, the marks and measures it needs, its unit.

    ``deep`` expressions use how far marks lie from the camera, which only a mat shows.
    ``size_only`` ones are magnitudes (``abs(...)``), which error alone pushes up. ``on_body``
    ones use joint angles, which only a reconstructed body has.
    """

    text: str
    marks: frozenset[str]
    measures: frozenset[str]
    in_cm: bool
    deep: bool
    size_only: bool
    run: Evaluator
    on_body: bool = False

    def __call__(self, frame: Frame) -> Array:
        """Evaluate on a batch; returns shape (samples,)."""
        return np.asarray(self.run(frame), dtype=float)


class _Parser:
    """Builds evaluators from one expression and notes what it uses."""

    def __init__(self, text: str, marks: frozenset[str], measures: frozenset[str]) -> None:
        self.text, self.marks, self.measures = text, marks, measures
        self.used_marks: set[str] = set()
        self.used_measures: set[str] = set()
        self.functions: set[str] = set()
        self.on_body = False

    def refuse(self, words: str) -> FormulaError:
        return FormulaError(f"{self.text!r}: {words}")

    def build(self, node: ast.expr) -> Evaluator:
        if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
            number = np.array([float(node.value)])
            return lambda frame: number
        if isinstance(node, ast.Name):
            if node.id in ANGLES and node.id not in self.measures:
                angle = node.id
                self.on_body = True
                return lambda frame: frame.angles[angle]
            if node.id not in self.measures:
                raise self.refuse(f"no measure is called {node.id!r}")
            self.used_measures.add(node.id)
            name = node.id
            return lambda frame: frame.values[name]
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
            inner = self.build(node.operand)
            return lambda frame: -inner(frame)
        if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
            op = _OPERATORS[type(node.op)]
            left, right = self.build(node.left), self.build(node.right)
            return lambda frame: op(left(frame), right(frame))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
            return self.call(node.func.id, node.args)
        raise self.refuse("only sums, products and calls of measures are allowed")

    def call(self, name: str, args: list[ast.expr]) -> Evaluator:
        if name in _COMBINE:
            combine, parts = _COMBINE[name], [self.build(a) for a in args]
            return lambda frame: combine(*(p(frame) for p in parts))
        if name not in FUNCTIONS:
            raise self.refuse(f"unknown formula kind {name!r}")
        kind = FUNCTIONS[name]
        names = tuple(a.id for a in args if isinstance(a, ast.Name))
        if len(names) != len(args) or len(names) != kind.arity:
            raise self.refuse(f"{name} takes {kind.arity} marks")
        for mark in names:
            if mark not in self.marks and mark not in HIPS:
                raise self.refuse(f"no mark is called {mark!r}")
        self.used_marks.update(n for n in names if n in self.marks)
        self.functions.add(name)
        return lambda frame: kind.call(frame, *names)


def parse(text: str, marks: frozenset[str], measures: frozenset[str]) -> Formula:
    """Parse an expression over the given marks and earlier measures.

    Raises FormulaError naming the unknown word, wrong count or foreign syntax.
    """
    try:
        tree = ast.parse(text, mode="eval")
    except SyntaxError as error:
        raise FormulaError(f"{text!r} is not an expression") from error
    parser = _Parser(text, marks, measures)
    run = parser.build(tree.body)
    used = [FUNCTIONS[f] for f in parser.functions]
    return Formula(
        text,
        frozenset(parser.used_marks),
        frozenset(parser.used_measures),
        in_cm=any(f.unit == "cm" for f in used),
        deep=any(f.deep for f in used),
        size_only=text.startswith("abs("),
        run=run,
        on_body=parser.on_body,
    )
