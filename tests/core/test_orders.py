"""What was ordered against what came."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.errors import BadInput
from sortitor.core.orders import Order, OrderLine, product_key, tally

products = st.sampled_from(["Mate 3", "mate  3", "DH-11", "Halyard S2", ""])
fleets = st.lists(
    st.tuples(
        st.one_of(st.none(), products),
        st.one_of(st.none(), products),
        st.integers(0, 50),
        st.integers(0, 50),
    ),
    max_size=12,
)


def test_a_product_code_decides_before_a_model() -> None:
    lines = [OrderLine(product="Deckhand 11", quantity=2), OrderLine(product="DH-11", quantity=3)]
    found = tally(
        lines, [("Deckhand 11", "DH-11", 4, 1), ("deckhand  11", None, 1, 0), (None, None, 2, 0)]
    )
    assert [(t.product, t.delivered, t.arrived, t.short, t.over) for t in found] == [
        ("Deckhand 11", 1, 0, 1, 0),
        ("DH-11", 4, 1, 0, 1),
        ("(no model)", 2, 0, 0, 2),
    ]


@given(fleets)
def test_no_device_is_counted_twice_or_lost(
    fleet: list[tuple[str | None, str | None, int, int]],
) -> None:
    found = tally(
        [OrderLine(product="Mate 3", quantity=5), OrderLine(product="DH-11", quantity=1)], fleet
    )
    assert sum(t.delivered for t in found) == sum(line[2] for line in fleet)
    assert sum(t.arrived for t in found) == sum(line[3] for line in fleet)
    assert all(t.short == 0 or t.over == 0 for t in found)
    assert all(t.quantity + t.over - t.short == t.delivered for t in found)


def test_a_product_stands_once() -> None:
    Order(
        name="o",
        lines=(OrderLine(product="Mate 3", quantity=1), OrderLine(product="Mate 4", quantity=1)),
    ).check()
    with pytest.raises(BadInput, match="twice"):
        Order(
            name="o",
            lines=(
                OrderLine(product="Mate 3", quantity=1),
                OrderLine(product="MATE  3", quantity=1),
            ),
        ).check()
    assert product_key(" Mate\t3 ") == "mate 3"
