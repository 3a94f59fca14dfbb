"""`sortitor order`: what was ordered against what came."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal, InvalidOperation
from typing import Any

import click
from pydantic import ValidationError

from sortitor.cli.connection import connect
from sortitor.cli.output import ExitCode, output_option, record, talk, toned, write
from sortitor.schemas.orders import Order, OrderLineNew, OrderNew

_COLUMNS = {
    "Id": lambda o: o.id,
    "Order": lambda o: o.name,
    "Supplier": lambda o: o.supplier,
    "Ordered on": lambda o: o.ordered_on,
    "Ordered": lambda o: o.ordered,
    "Delivered": lambda o: o.delivered,
    "Arrived": lambda o: o.arrived,
    "Short": lambda o: toned(f"{o.short:,}", "warn" if o.short else "plain"),
    "Over": lambda o: toned(f"{o.over:,}", "warn" if o.over else "plain"),
}


@click.group()
def order() -> None:
    """Orders: ordered, delivered, arrived, short, over."""


def _line(text: str) -> OrderLineNew:
    product, _equals, rest = text.rpartition("=")
    quantity, _, price = rest.partition("@")
    try:
        return OrderLineNew(
            product=product, quantity=int(quantity), price=Decimal(price) if price else None
        )
    except (ValueError, InvalidOperation, ValidationError) as error:
        raise click.BadParameter(
            f"{text!r} is not of the form PRODUCT=QUANTITY or PRODUCT=QUANTITY@PRICE",
            param_hint="--line",
        ) from error


def _find(s: Any, name: str) -> Order:
    found: list[Order] = [
        o for o in s.orders.list() if str(o.id) == name or o.name.casefold() == name.casefold()
    ]
    if not found:
        raise click.UsageError(f"There is no order {name!r}; see `sortitor order list`.")
    return found[0]


@order.command("list")
@output_option
@click.pass_obj
def list_orders(obj: dict[str, Any], /, output: str) -> None:
    """List orders, newest first.

    \b
    Example:
      sortitor order list
    """
    with connect(obj) as s:
        write(
            s.orders.list(),
            output,
            _COLUMNS,
            "\nNext: sortitor order show NAME",
            "No orders yet. Next: sortitor order add NAME --line 'Halyard S2=200'",
        )


@order.command()
@click.argument("name")
@output_option
@click.pass_obj
def show(obj: dict[str, Any], /, name: str, output: str) -> None:
    """Show one order (by name or number), line by line. Exit code 1 if it is short or over.

    \b
    Example:
      sortitor order show WL-2601
    """
    with connect(obj) as s:
        found = _find(s, name)
    if output == "table":
        record(
            [
                ("Order", f"{found.id}  {found.name}"),
                ("Supplier", found.supplier),
                ("Ordered on", found.ordered_on),
                ("Note", found.note),
            ]
        )
    columns = {
        "Product": lambda x: x.product,
        "Ordered": lambda x: x.quantity,
        "Delivered": lambda x: x.delivered,
        "Arrived": lambda x: x.arrived,
        "Short": lambda x: toned(f"{x.short:,}", "warn" if x.short else "plain"),
        "Over": lambda x: toned(f"{x.over:,}", "warn" if x.over else "plain"),
        "Price": lambda x: x.price,
    }
    write(found.lines, output, columns, empty="No lines yet.")
    if found.short or found.over:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@order.command()
@click.argument("name")
@click.option(
    "--line",
    "lines",
    multiple=True,
    metavar="PRODUCT=QUANTITY[@PRICE]",
    help="A product (model or product code) and how many; repeatable.",
)
@click.option("--supplier", help="Who delivers.")
@click.option("--ordered-on", type=click.DateTime(["%Y-%m-%d"]), help="When it was ordered.")
@click.option("--note", help="A remark.")
@click.pass_obj
def edit(
    obj: dict[str, Any],
    /,
    name: str,
    lines: tuple[str, ...],
    supplier: str | None,
    ordered_on: datetime | None,
    note: str | None,
) -> None:
    """Add an order, or change the one of that name. Devices belong to it by its name in their lot.

    \b
    Example:
      sortitor order edit WL-2601 --supplier "Ondry Trade" --line "Halyard S2=200@189.00"
    """
    day = ordered_on.date() if ordered_on else None
    with connect(obj) as s:
        known = next((o for o in s.orders.list() if o.name.casefold() == name.casefold()), None)
        kept = (
            [
                OrderLineNew(product=x.product, quantity=x.quantity, price=x.price)
                for x in known.lines
                if x.quantity
            ]
            if known and not lines
            else [_line(x) for x in lines]
        )
        given = OrderNew(
            name=known.name if known else name,
            supplier=supplier or (known.supplier if known else None),
            lines=kept,
            ordered_on=day or (known.ordered_on if known else None),
            note=note or (known.note if known else None),
        )
        done = s.orders.edit(known.id, given) if known else s.orders.add(given)
    talk(
        f"Order {done.name} {'changed' if known else 'added'}: {done.ordered:,} ordered,"
        f" {done.delivered:,} delivered. Next: sortitor order show {done.name}"
    )


@order.command()
@click.argument("name")
@click.pass_obj
def remove(obj: dict[str, Any], /, name: str) -> None:
    """Remove an order; its devices keep its name, and the journal can bring it back.

    \b
    Example:
      sortitor order remove WL-2601
    """
    with connect(obj) as s:
        s.orders.remove(_find(s, name).id)
    talk(f"Order {name} removed.")
