"""What is public says what it is for; arrays say their shapes, errors are named; the library names every parameter."""

import ast
import importlib
import inspect
import pkgutil
import re
import textwrap

import pytest

import errant_gust
from errant_gust import core

SHAPE = re.compile(r"\((\w+|…|\d|side³|last − first)[^()]*,[^()]*\)|[Aa]ny shape|scalar")
ERRORS = r"(Gust|Study|File|Budget|Solver)Error|NoRoom|Cancelled"
COMMANDS = ("core.demos.make",)
"""Modules that do something when they are imported."""


def modules():
    for found in pkgutil.walk_packages(core.__path__, "errant_gust.core."):
        if not found.name.startswith(tuple(f"errant_gust.{c}" for c in COMMANDS)) and "__main__" not in found.name:
            yield importlib.import_module(found.name)


def plain(member):
    """The function under a property, a class method or a compiled kernel; None if it is none."""
    for name in ("__func__", "fget", "func", "py_func"):
        member = getattr(member, name, None) or member
    return inspect.unwrap(member) if inspect.isfunction(member) else None


def public():
    """(where, function, docstring) of all there is; an override that says nothing has its base's words."""
    for module in modules():
        for name, member in vars(module).items():
            if name.startswith("_"):
                continue
            function = plain(member)
            if function is not None and function.__module__ == module.__name__:
                yield f"{module.__name__}.{name}", function, inspect.getdoc(function) or ""
            elif inspect.isclass(member) and member.__module__ == module.__name__:
                for own, value in vars(member).items():
                    function = None if own.startswith("_") else plain(value)
                    if function is None or function.__module__ != module.__name__:
                        continue
                    bases = (plain(base.__dict__.get(own)) for base in member.__mro__)
                    said = next((f.__doc__ for f in bases if f is not None and f.__doc__), "")
                    yield f"{module.__name__}.{name}.{own}", function, said


def faults(where, function, said):
    if not said:
        return [f"{where} says nothing"]
    tree = ast.parse(textwrap.dedent(inspect.getsource(function)))
    made = next(n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef))
    kinds = [a.annotation for a in (*made.args.args, *made.args.kwonlyargs)] + [made.returns]
    arrays = any(re.search(r"\bArray\b|NDArray", ast.unparse(k)) for k in kinds if k is not None)
    raised = [n.exc for n in ast.walk(made) if isinstance(n, ast.Raise) and n.exc is not None]
    found = []
    if arrays and not SHAPE.search(said):
        found.append(f"{where} does not say the shapes of its arrays")
    if any(re.search(ERRORS, ast.unparse(e)) for e in raised) and not re.search(rf"[Rr]aise|refus|{ERRORS}", said):
        found.append(f"{where} does not say what it raises")
    return found


def test_everything_public_says_what_it_is_for_its_shapes_and_its_errors():
    everything = list(public())
    assert len(everything) > 1500
    assert [fault for one in everything for fault in faults(*one)] == []


def test_the_check_finds_what_is_missing():
    def silent(values: "Array") -> None:  # noqa: F821
        raise ValueError

    def vague(values: "Array") -> None:  # noqa: F821
        raise errant_gust.GustError("x")

    assert faults("it", silent, "") == ["it says nothing"]
    assert faults("it", silent, "Values.") == ["it does not say the shapes of its arrays"]
    assert faults("it", vague, "Values (n, 3).") == ["it does not say what it raises"]
    assert faults("it", vague, "Values (n, 3). Raises GustError.") == []


@pytest.mark.parametrize("name", [n for n in errant_gust.__all__ if inspect.isfunction(getattr(errant_gust, n))])
def test_the_library_names_every_parameter(name):
    function = getattr(errant_gust, name)
    said = inspect.getdoc(function)
    missing = [p for p in inspect.signature(function).parameters if not re.search(rf"\b{p}\b", said)]
    assert not missing, f"{name} says nothing of {', '.join(missing)}"
