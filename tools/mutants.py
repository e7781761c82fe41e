"""Small faults put into the core one by one: do a package's own fast tests notice?

``make mutants`` runs all four packages within a time budget; ``python -m tools.mutants judging
--seconds 120 --list`` one of them, naming what survived. Faults are drawn evenly over a
package's modules, the same ones every time. A fault is a comparison, an operator, a number, a
condition or a jump changed; sentences are left alone. Each is tried in a forked process that
has the libraries loaded already, so that trying one takes about a second.
"""

from __future__ import annotations

import argparse
import ast
import contextlib
import copy
import hashlib
import importlib
import importlib.abc
import importlib.machinery
import os
import random
import signal
import sys
import time
import unittest
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType

ROOT = Path(__file__).parents[1]
PACKAGES = ("judging", "practising", "assessing", "measuring")
#: Classes that take long: they do not belong to the fast tests of their package.
SLOW = ("HardRules", "AgainstExhaustiveSearch", "Uncertainty", "MonteCarlo", "LessTime", "ByHand")
#: A fault may make a loop endless; that counts as noticed.
LONGEST_S = 60
SEED = 7
#: Smaller numbers keep divisions from zero and loops from running on: a quarter more is the same.
TOLERANCE = 2e-6

COMPARISONS: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip
OPERATORS: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.Pow: ast.Mult,
    ast.FloorDiv: ast.Div, ast.Mod: ast.Mult, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


@dataclass(frozen=True)
class Mutant:
    """One fault: the module, which node in the order of a walk, and what it does."""

    module: str
    path: Path
    index: int
    line: int
    words: str


def faulty(node: ast.AST) -> tuple[ast.AST, str] | None:
    """A changed copy of a node and what was changed; None where there is nothing to change."""
    new = copy.deepcopy(node)
    match new:
        case ast.Compare(ops=[op, *_]) if type(op) in COMPARISONS:
            other = COMPARISONS[type(op)]()
            new.ops[0] = other
            return new, f"{type(op).__name__} becomes {type(other).__name__}"
        case ast.BinOp(op=op) if type(op) in OPERATORS:
            new.op = OPERATORS[type(op)]()
            return new, f"{type(op).__name__} becomes {type(new.op).__name__}"
        case ast.BoolOp(op=op):
            new.op = ast.Or() if isinstance(op, ast.And) else ast.And()
            return new, f"{type(op).__name__} becomes {type(new.op).__name__}"
        case ast.UnaryOp(op=ast.Not() | ast.USub()):
            return new.operand, f"{type(new.op).__name__} is dropped"
        case ast.Constant(value=bool() as value):
            new.value = not value
            return new, f"{value} becomes {new.value}"
        case ast.Constant(value=int() as value):
            new.value = value + 1
            return new, f"{value} becomes {new.value}"
        case ast.Constant(value=float() as value) if 0.0 < abs(value) < TOLERANCE:
            return None
        case ast.Constant(value=float() as value):
            new.value = value * 1.25 if value else 0.5
            return new, f"{value} becomes {new.value}"
        case ast.Continue():
            return ast.copy_location(ast.Break(), new), "continue becomes break"
        case ast.Break():
            return ast.copy_location(ast.Continue(), new), "break becomes continue"
        case (
            ast.If(test=ast.Name() | ast.Attribute() | ast.Call())
            | ast.IfExp(test=ast.Name() | ast.Attribute() | ast.Call())
        ):
            new.test = ast.UnaryOp(ast.Not(), new.test)
            return new, "condition is turned round"
    return None


def touchable(tree: ast.Module) -> Iterator[ast.AST]:
    """Nodes that do something, in the order of a walk: no annotations, decorators, texts."""
    hidden: set[int] = set()
    for node in ast.walk(tree):
        parts: list[ast.AST | None] = []
        if isinstance(node, ast.FunctionDef):
            parts = [*node.decorator_list, node.returns]
        elif isinstance(node, ast.ClassDef):
            parts = [*node.decorator_list, *node.keywords]
        elif isinstance(node, ast.arg | ast.AnnAssign):
            parts = [node.annotation]
        elif isinstance(node, ast.keyword) and node.arg == "strict":
            # Says that lengths are equal; where they are it changes nothing.
            parts = [node.value]
        elif isinstance(node, ast.JoinedStr):
            parts = [v.format_spec for v in node.values if isinstance(v, ast.FormattedValue)]
        for part in parts:
            if part is not None:
                hidden |= {id(n) for n in ast.walk(part)}
    for node in ast.walk(tree):
        if id(node) not in hidden:
            yield node


def mutants_of(package: str, draw: int = SEED) -> list[Mutant]:
    """Every fault there is for a package, shuffled within modules and dealt out in turn."""
    by_module = []
    for path in sorted((ROOT / "dachi" / "core" / package).glob("[!_]*.py")):
        module = f"dachi.core.{package}.{path.stem}"
        tree = ast.parse(path.read_text("utf-8"))
        own = []
        for index, node in enumerate(touchable(tree)):
            changed = faulty(node)
            if changed is not None:
                line = getattr(node, "lineno", 0)
                own.append(Mutant(module, path, index, line, changed[1]))
        seed = int(hashlib.sha256(f"{draw}{module}".encode()).hexdigest()[:8], 16)
        random.Random(seed).shuffle(own)
        by_module.append(own)
    total = sum(len(own) for own in by_module)
    dealt: list[tuple[float, Mutant]] = []
    for own in by_module:
        dealt += [((i + 0.5) / len(own) if own else 0.0, m) for i, m in enumerate(own)]
    found = [m for _, m in sorted(dealt, key=lambda d: d[0])]
    assert len(found) == total
    return found


def source_with(mutant: Mutant) -> ast.Module:
    """The module's tree with the fault in it."""
    tree = ast.parse(mutant.path.read_text("utf-8"))
    wanted = list(touchable(tree))[mutant.index]
    changed = faulty(wanted)
    assert changed is not None
    new = changed[0]

    class Swap(ast.NodeTransformer):
        def visit(self, node: ast.AST) -> ast.AST:
            return new if node is wanted else super().generic_visit(node)

    Swap().visit(tree)
    return ast.fix_missing_locations(tree)


class Faulty(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Hands out one module with its fault."""

    def __init__(self, mutant: Mutant) -> None:
        self.mutant = mutant
        self.code = compile(source_with(mutant), str(mutant.path), "exec")

    def find_spec(
        self, name: str, path: object = None, target: object = None
    ) -> importlib.machinery.ModuleSpec | None:
        """Answer for the one module only."""
        if name != self.mutant.module:
            return None
        return importlib.machinery.ModuleSpec(name, self, origin=str(self.mutant.path))

    def exec_module(self, module: ModuleType) -> None:
        """Run the faulty code."""
        exec(self.code, module.__dict__)


def fast_tests(package: str) -> unittest.TestSuite:
    """The package's own tests without those that take long."""
    loader = unittest.TestLoader()
    suite = unittest.TestSuite()
    for path in sorted((ROOT / "tests" / "core" / package).glob("test_*.py")):
        module = importlib.import_module(f"tests.core.{package}.{path.stem}")
        for thing in vars(module).values():
            if (
                isinstance(thing, type)
                and issubclass(thing, unittest.TestCase)
                and thing.__module__ == module.__name__
                and thing.__name__ not in SLOW
            ):
                suite.addTests(loader.loadTestsFromTestCase(thing))
    return suite


def survives(package: str, mutant: Mutant | None) -> bool:
    """Run the fast tests on a fault (or on none) in this process; True where all pass."""
    if mutant is not None:
        sys.meta_path.insert(0, Faulty(mutant))
    with open(os.devnull, "w") as quiet, contextlib.redirect_stdout(quiet):
        sys.stderr = quiet
        try:
            suite = fast_tests(package)
            runner = unittest.TextTestRunner(quiet, failfast=True, verbosity=0)
            return runner.run(suite).wasSuccessful()
        except Exception:
            # A fault that keeps the tests from even loading is noticed.
            return False


def begin(package: str, mutant: Mutant | None) -> int:
    """Fork a process that tries one fault; its exit status is 0 where it survives."""
    child = os.fork()
    if child == 0:
        signal.alarm(LONGEST_S)
        status = 1
        try:
            status = 0 if survives(package, mutant) else 1
        finally:
            os._exit(status)
    return child


def preload() -> None:
    """Load what takes long to import, and nothing of ours."""
    for name in ("numpy", "scipy.optimize", "scipy.stats", "cv2", "PIL.Image", "hypothesis",
                 "msgspec", "flask", "waitress"):  # fmt: skip
        importlib.import_module(name)


def examine(
    package: str, seconds: float, draw: int = SEED, workers: int = 2
) -> tuple[int, list[Mutant], int]:
    """Try faults until the time is up: how many were tried, which survived, how many there are."""
    os.waitpid(begin(package, None), 0)
    healthy = begin(package, None)
    if os.waitpid(healthy, 0)[1] != 0:
        raise SystemExit(f"the fast tests of {package} fail without any fault")
    every = mutants_of(package, draw)
    waiting = iter(every)
    running: dict[int, Mutant] = {}
    tried = 0
    survivors: list[Mutant] = []
    end = time.monotonic() + seconds
    while True:
        while len(running) < workers and time.monotonic() < end:
            mutant = next(waiting, None)
            if mutant is None:
                break
            running[begin(package, mutant)] = mutant
        if not running:
            return tried, survivors, len(every)
        pid, status = os.wait()
        mutant = running.pop(pid)
        tried += 1
        if status == 0:
            survivors.append(mutant)


def main(arguments: Sequence[str] | None = None) -> int:
    """Examine packages and print a table; 1 where fewer than four in five faults are noticed."""
    parser = argparse.ArgumentParser(prog="mutants", description=__doc__)
    parser.add_argument("package", nargs="*", choices=(*PACKAGES, []), default=[])
    parser.add_argument("--seconds", type=float, default=240.0, help="for each package")
    parser.add_argument(
        "--draw", type=int, default=SEED, help="another sample: what tests were not written for"
    )
    parser.add_argument("--list", action="store_true", help="name the survivors")
    args = parser.parse_args(arguments)
    preload()
    bad = False
    print(f"{'package':12} faults tried noticed")
    for package in args.package or PACKAGES:
        tried, survivors, total = examine(package, args.seconds, args.draw)
        share = 1 - len(survivors) / max(tried, 1)
        bad |= share < 0.8
        print(f"{package:12} {total:6} {tried:5} {share:7.1%}", flush=True)
        if args.list:
            for m in sorted(survivors, key=lambda m: (m.module, m.line)):
                line = m.path.read_text("utf-8").splitlines()[m.line - 1].strip()
                print(f"    {m.path.relative_to(ROOT)}:{m.line}: {m.words}   | {line}")
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
