"""What ends: who is told of what, and when."""

from __future__ import annotations

from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.ends import End, Told, reminder_mail, said, untold
from sortitor.core.vocabulary import EndKind

TODAY = date(2026, 1, 17)


@given(
    st.lists(st.integers(-5, 100), min_size=1, max_size=4),
    st.sets(st.integers(1, 90), min_size=1, max_size=5),
    st.lists(st.integers(0, 20), max_size=8),
)
def test_nobody_is_told_the_same_twice(lefts: list[int], days: set[int], pauses: list[int]) -> None:
    """However often and irregularly it is looked: at most one mail for each day that was asked
    for, none after the end, and one if it was looked at all while one was due.
    """
    things = [
        End(f"e-{place}", EndKind.PASS, "x", TODAY + timedelta(days=left), "/")
        for place, left in enumerate(lefts)
    ]
    told: set[Told] = set()
    day = TODAY
    for pause in (0, *pauses):
        day += timedelta(days=pause)
        for end, line in untold(things, days, day):
            assert day <= end.ends_on
            assert min(d for d in days if d >= end.days_left(day)) == line.days
            told.add(line)
    looked = [TODAY + timedelta(days=sum(pauses[:n])) for n in range(len(pauses) + 1)]
    for end in things:
        lines = [one for one in told if one.key == end.key]
        assert len(lines) <= len(days)
        due = any(0 <= end.days_left(at) <= max(days) for at in looked)
        assert bool(lines) == due


def test_an_end_is_said_as_people_say_it() -> None:
    """Also in the subject of a mail, which names the first."""
    ends = [
        End(f"e-{left}", EndKind.PASS, f"The pass {left}", TODAY + timedelta(left), "/passes/1")
        for left in (30, -1, 0, 1)
    ]
    assert [said(end, TODAY).partition("ends ")[2] for end in ends] == [
        "on 2026-02-16, in 30 days",
        "",
        "on 2026-01-17, today",
        "on 2026-01-18, tomorrow",
    ]
    assert said(ends[1], TODAY) == "The pass -1 ended on 2026-01-16"
    subject, body = reminder_mail([ends[0], ends[3]], TODAY, "https://fleet.example")
    assert subject == "The pass 1 ends on 2026-01-18, tomorrow, and 1 more end"
    assert body.index("The pass 1 ") < body.index("The pass 30 ")
    assert "https://fleet.example/passes/1\n" in body
