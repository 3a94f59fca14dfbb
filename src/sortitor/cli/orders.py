"""`sortitor order`: what was ordered against what came."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation

import click
from pydantic import ValidationError

from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import ExitCode, counted, record, talk, toned, write
from sortitor.client import Sortitor
from sortitor.core.orders import Order, OrderLine
from sortitor.schemas.orders import OrderDetail


@click.group()
def order() -> None:
    """Orders: ordered, delivered, arrived, short, over."""


def _line(text: str) -> OrderLine:
    """`Halyard S2=200@189.00`: a product, how many, and the price of one where it is known."""
    product, _, rest = text.rpartition("=")
    quantity, _, price = rest.partition("@")
    try:
        return OrderLine(
            product=product, quantity=int(quantity), price=Decimal(price) if price else None
        )
    except (ValueError, InvalidOperation, ValidationError) as error:
        raise click.BadParameter(
            f"{text!r} is not of the form PRODUCT=QUANTITY or PRODUCT=QUANTITY@PRICE",
            param_hint="--line",
        ) from error


def _detail(s: Sortitor, found: OrderDetail) -> None:
    record(
        [
            ("Order", f"{found.id}  {found.name}"),
            ("Supplier", found.supplier),
            ("Ordered on", found.ordered_on),
            ("Note", found.note),
        ]
    )
    columns = {
        "Product": lambda line: line.product,
        "Ordered": lambda line: line.quantity,
        "Delivered": lambda line: line.delivered,
        "Arrived": lambda line: line.arrived,
        "Short": lambda line: toned(f"{line.short:,}", "warn" if line.short else "plain"),
        "Over": lambda line: toned(f"{line.over:,}", "warn" if line.over else "plain"),
        "Price": lambda line: line.price,
    }
    talk("")
    write(found.tally, "table", columns, empty="No lines yet.")
    if found.short or found.over:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _age(first: OrderDetail) -> str:
    if not first.age_seconds:
        return ""
    return f"What came was counted {counted(first.age_seconds, 'second')} ago."


add_commands(
    Noun(
        group=order,
        word="order",
        one="an order",
        calls=lambda s: s.orders,
        model=Order,
        columns={
            "Id": lambda o: o.id,
            "Order": lambda o: o.name,
            "Supplier": lambda o: o.supplier,
            "Ordered on": lambda o: o.ordered_on,
            "Ordered": lambda o: o.ordered,
            "Delivered": lambda o: o.delivered,
            "Arrived": lambda o: o.arrived,
            "Short": lambda o: toned(f"{o.short:,}", "warn" if o.short else "plain"),
            "Over": lambda o: toned(f"{o.over:,}", "warn" if o.over else "plain"),
        },
        first_to_go=["Ordered on", "Arrived"],
        options={"lines": "--line"},
        readers={"lines": _line},
        metavars={"lines": "PRODUCT=QUANTITY[@PRICE]"},
        after=lambda o: f'sortitor order show "{o.name}"',
        detail=_detail,
        remark=_age,
        empty="No orders yet. Next: sortitor order add NAME --line 'Halyard S2=200'",
        examples={
            "list": "sortitor order list",
            "show": "sortitor order show WL-2601",
            "add": 'sortitor order add WL-2601 --line "Halyard S2=200@189.00"',
            "edit": "sortitor order edit WL-2601 --ordered-on 2026-01-09",
            "remove": "sortitor order remove WL-2601",
            "revisions": "sortitor order revisions WL-2601",
        },
    )
)
