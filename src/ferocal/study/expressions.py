"""Reading the text of a formula: a small grammar, of which nothing is ever executed."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any, Literal

from ferocal.terms.frozen import dataclass

if TYPE_CHECKING:
    from lark import Lark

# A minus within a name belongs to it; one with a blank on a side subtracts.
_GRAMMAR = r"""
?start: sum
?sum: product | sum "+" product -> add | sum _minus product -> subtract
?product: atom | product ("*" | "×" | "·") atom -> multiply | product ("/" | "÷") atom -> divide
?atom: NUMBER UNIT? -> number
    | _minus atom -> negate
    | NAME "(" sum ("," sum)* ")" -> call
    | (NAME | QUOTED) ("." (NAME | QUOTED))? -> name
    | "(" sum ")"
_minus: "-" | "−"
NUMBER: /\d+(\.\d+)?([eE][-+]?\d+)?/
UNIT: /%|°[CF]|[^\W\d_]\w*/
NAME: /[^\W\d_]\w*([.-]\w+)*/
QUOTED: /'[^']+'/
%ignore /\s+/
"""
# With more operations nested in one another, the meaning is lost.
MOST_DEEP = 100
ADVICE = 'write it like "page - idle" or "energy / (2 × frames)", a name with other signs in \'…\''


class ExpressionError(ValueError):
    """A text that is no formula."""


@dataclass(frozen=True)
class Expression:
    """A node of a formula as it was written.

    ``parts`` are the nodes below, or the words of a name, a number or a function.
    """

    kind: Literal[
        "add", "subtract", "multiply", "divide", "negate", "number", "name", "call", "word"
    ]
    parts: tuple[Any, ...]


def parse_expression(text: str) -> Expression:
    """The tree of a formula.

    Raises
    ------
    ExpressionError
        When it is none; the message says where it ends to make sense.
    """
    from lark.exceptions import UnexpectedEOF, UnexpectedInput

    try:
        return _build(_parser().parse(text), MOST_DEEP)
    except UnexpectedEOF:
        raise ExpressionError(f"something is missing at its end; {ADVICE}") from None
    except UnexpectedInput as error:
        place = error.pos_in_stream
        ended = getattr(getattr(error, "token", None), "type", "") == "$END"
        at_end = ended or place is None or place < 0
        seen = "its end" if at_end else f'"{text[place:][:12]}"'
        raise ExpressionError(f"makes no sense from {seen} on; {ADVICE}") from None


@functools.cache
def _parser() -> Lark:
    from lark import Lark

    return Lark(_GRAMMAR, parser="lalr")


def _build(node: Any, deep: int) -> Expression:
    from lark import Token

    if deep == 0:
        raise ExpressionError(f"has more than {MOST_DEEP} operations in one another")
    if isinstance(node, Token):
        return Expression("word", (str(node).strip("'"),))
    children = [_build(child, deep - 1) for child in node.children]
    if node.data in ("number", "name"):
        return Expression(node.data, tuple(child.parts[0] for child in children))
    return Expression(node.data, tuple(children))
