"""Small faults that can be made in a module: where, and the module with one of them in it."""

from __future__ import annotations

import ast
import copy
from collections.abc import Callable, Iterator
from dataclasses import dataclass

_Change = Callable[[ast.AST], ast.AST | None]


@dataclass(frozen=True)
class Site:
    """A place where a fault can be made: the number of its node, and the fault in words.

    ``statement`` is the line on which its statement begins.
    """

    line: int
    statement: int
    node: int
    change: int
    text: str


def _swapped(pairs: dict[type[ast.AST], type[ast.AST]]) -> dict[type[ast.AST], type[ast.AST]]:
    return pairs | {new: old for old, new in pairs.items()}


_COMPARED = _swapped(
    {ast.Lt: ast.LtE, ast.Gt: ast.GtE, ast.Eq: ast.NotEq, ast.Is: ast.IsNot, ast.In: ast.NotIn}
)
_COUNTED = _swapped({ast.Add: ast.Sub, ast.Mult: ast.Div, ast.BitAnd: ast.BitOr}) | {
    ast.Pow: ast.Mult, ast.FloorDiv: ast.Div, ast.Mod: ast.Mult, ast.MatMult: ast.Mult,
}  # fmt: skip
_NAMED = {"min": "max", "max": "min", "any": "all", "all": "any"}
_METHODS = _NAMED | {
    "minimum": "maximum", "maximum": "minimum", "argmin": "argmax", "argmax": "argmin",
    "sum": "max", "mean": "max",
}  # fmt: skip


def _compare(node: ast.AST) -> ast.AST | None:
    if not isinstance(node, ast.Compare) or type(node.ops[0]) not in _COMPARED:
        return None
    first, *rest = node.ops
    return ast.Compare(node.left, [_COMPARED[type(first)](), *rest], node.comparators)  # type: ignore[list-item]


def _is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.JoinedStr) or isinstance(getattr(node, "value", None), str)


def _count(node: ast.AST) -> ast.AST | None:
    if isinstance(node, ast.BinOp) and type(node.op) in _COUNTED:
        if any(
            isinstance(n, ast.JoinedStr) or isinstance(getattr(n, "value", 0), str)
            for n in (node.left, node.right)
        ):
            return None
        return ast.BinOp(node.left, _COUNTED[type(node.op)](), node.right)  # type: ignore[arg-type]
    if isinstance(node, ast.AugAssign) and type(node.op) in _COUNTED:
        return ast.AugAssign(node.target, _COUNTED[type(node.op)](), node.value)  # type: ignore[arg-type]
    return None


def _join(node: ast.AST) -> ast.AST | None:
    if isinstance(node, ast.BoolOp):
        return ast.BoolOp(ast.Or() if isinstance(node.op, ast.And) else ast.And(), node.values)
    return None


def _drop(node: ast.AST) -> ast.AST | None:
    """Without one of the parts of a condition."""
    if isinstance(node, ast.BoolOp):
        rest = node.values[:-1]
        return rest[0] if len(rest) == 1 else ast.BoolOp(node.op, rest)
    return None


def _turn(node: ast.AST) -> ast.AST | None:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.Not, ast.USub, ast.Invert)):
        return node.operand
    if isinstance(node, (ast.If, ast.IfExp, ast.While)):
        turned = copy.copy(node)
        turned.test = ast.UnaryOp(ast.Not(), node.test)
        return turned
    return None


def _number(node: ast.AST) -> ast.AST | None:
    if not isinstance(node, ast.Constant) or isinstance(node.value, (str, bytes)):
        return None
    if isinstance(node.value, bool):
        return ast.Constant(not node.value)
    if isinstance(node.value, int):
        return ast.Constant(node.value + 1)
    return ast.Constant(node.value * 1.5 or 1.0) if isinstance(node.value, float) else None


def _name(node: ast.AST) -> ast.AST | None:
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in _NAMED:
        return ast.Call(ast.Name(_NAMED[node.func.id], ast.Load()), node.args, node.keywords)
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        other = _METHODS.get(node.func.attr)
        if other is not None:
            function = ast.Attribute(node.func.value, other, ast.Load())
            return ast.Call(function, node.args, node.keywords)
    return None


def _filter(node: ast.AST) -> ast.AST | None:
    """A comprehension without its condition."""
    if isinstance(node, ast.comprehension) and node.ifs:
        return ast.comprehension(node.target, node.iter, node.ifs[:-1], node.is_async)
    return None


_CHANGES: tuple[tuple[str, _Change], ...] = (
    ("compares otherwise", _compare), ("counts otherwise", _count), ("joins otherwise", _join),
    ("drops a condition", _drop), ("turns round", _turn), ("has another number", _number),
    ("takes another function", _name), ("does not filter", _filter),
)  # fmt: skip


def _walk(tree: ast.AST, statement: int = 1) -> Iterator[tuple[ast.AST, int]]:
    """The nodes of code that decides something, no annotations; each with its statement's line."""
    for name, value in ast.iter_fields(tree):
        if name in ("annotation", "returns", "decorator_list"):
            continue
        for child in value if isinstance(value, list) else [value]:
            if isinstance(child, ast.AST):
                line = child.lineno if isinstance(child, ast.stmt) else statement
                yield child, line
                yield from _walk(child, line)


def sites_of(source: str) -> list[Site]:
    """All faults that can be made in a module."""
    found = []
    tree = ast.parse(source)
    # Whether columns that always are of one length would be refused otherwise.
    guards = {
        id(keyword.value)
        for keyword in ast.walk(tree)
        if isinstance(keyword, ast.keyword) and keyword.arg == "strict"
    }
    for number, (node, statement) in enumerate(_walk(tree)):
        if id(node) in guards:
            continue
        line = int(getattr(node, "lineno", statement))
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.unparse(node.test):
            continue
        for change, (text, make) in enumerate(_CHANGES):
            new = make(node)
            if new is not None:
                shown = f"{text}: {ast.unparse(_headed(node))} → {ast.unparse(_headed(new))}"
                found.append(Site(line, statement, number, change, shown))
    return found


def _headed(node: ast.AST) -> ast.AST:
    """What of a node is shown."""
    return node.test if isinstance(node, (ast.If, ast.While)) else node


def with_fault(source: str, site: Site) -> str:
    """The module with a fault in it."""
    tree = ast.parse(source)
    wanted = next(node for n, (node, _) in enumerate(_walk(tree)) if n == site.node)
    new = _CHANGES[site.change][1](wanted)

    class Replace(ast.NodeTransformer):
        def visit(self, node: ast.AST) -> ast.AST:
            return new if node is wanted and new is not None else self.generic_visit(node)

    return ast.unparse(ast.fix_missing_locations(Replace().visit(tree)))
