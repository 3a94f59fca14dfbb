"""The books of a pool: nothing is lost, nothing appears, and taking back is as if it had never
been.
"""

from datetime import date, timedelta
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.licences.books import Books, Grant, book, course_of
from sortitor.core.licences.compare import compare
from sortitor.core.licences.forecast import Growth, forecast
from sortitor.core.licences.pools import Pool, Standing, standing_on, state_of
from sortitor.core.vocabulary import Act, PoolState, Term

DAY = date(2026, 1, 17)
seats, days = st.integers(1, 1_000), st.integers(1, 800)
steps = st.lists(
    st.tuples(st.sampled_from([Act.TOP_UP, Act.ROLLOVER]), seats, days, st.integers(0, 400)),
    min_size=1,
    max_size=8,
)


def _grants(steps: list[tuple[Act, int, int, int]]) -> list[Grant]:
    on, found = DAY, []
    for act, number, lasting, later in steps:
        on += timedelta(later)
        found.append(Grant(act, number, lasting, on))
    return found


@given(steps)
def test_what_is_left_and_what_was_used_is_what_was_given(
    steps: list[tuple[Act, int, int, int]],
) -> None:
    """By a count of its own, day by day, that knows nothing of fractions."""
    grants = _grants(steps)
    pending = {}
    for one in grants:
        pending.setdefault(one.on, []).append(one)
    held, left, used = 0, 0, 0
    for number in range((grants[-1].on - DAY).days + 1):
        day = DAY + timedelta(number)
        for one in pending.get(day, ()):
            left += one.seats * one.days
            held = held + one.seats if one.act is Act.TOP_UP else one.seats
        if day == grants[-1].on:
            break
        if left >= held:
            used, left = used + held, left - held
    books = book(grants, DAY)[-1]
    assert (books.seats, books.seat_days) == (held, left)
    assert used + books.seat_days == sum(one.seat_days for one in grants)
    assert books.days == Fraction(left, held)
    assert books.ends_on == books.on + timedelta(left // held)


@given(steps, st.integers(0, 7))
def test_taking_the_last_back_gives_the_very_books(
    steps: list[tuple[Act, int, int, int]], later: int
) -> None:
    *before, last = _grants(steps)
    again = book([*before, last], DAY)
    looked = last.on + timedelta(later)
    former = book(before, DAY)[-1] if before else Books(0, 0, DAY)
    assert again[:-1] == book(before, DAY)
    assert again[-2].at(looked) == former.at(looked) if before else again == [again[-1]]
    assert course_of(before, together=True).seats_on(looked) == (
        former.seats if looked < former.ends_on else 0
    )


@given(steps)
def test_both_ways_bring_the_same_seat_days(steps: list[tuple[Act, int, int, int]]) -> None:
    *before, last = _grants(steps)
    found = {
        act: book([*before, Grant(act, last.seats, last.days, last.on)], DAY)[-1]
        for act in (Act.TOP_UP, Act.ROLLOVER)
    }
    assert found[Act.TOP_UP].seat_days == found[Act.ROLLOVER].seat_days
    assert found[Act.TOP_UP].seats >= found[Act.ROLLOVER].seats == last.seats


@given(steps, st.integers(0, 30), st.integers(0, 1_200))
def test_seats_on_a_day_are_those_of_the_books(
    steps: list[tuple[Act, int, int, int]], grace: int, later: int
) -> None:
    grants = _grants(steps)
    course = course_of(grants, together=True)
    day = DAY + timedelta(later)
    known = [one for one in grants if one.on <= day]
    if not known:
        assert course.seats_on(day, grace) == 0
        return
    books = book(known, DAY)[-1]
    assert course.seats_on(day) == (books.seats if day < books.ends_on else 0)
    until = books.ends_on + timedelta(grace)
    assert course.seats_on(day, grace) == (books.seats if day < until else 0)


@given(st.lists(st.tuples(seats, days, st.integers(0, 300)), max_size=6), st.integers(0, 900))
def test_seats_with_ends_of_their_own_add_up(
    given_: list[tuple[int, int, int]], later: int
) -> None:
    grants = [Grant(Act.BESIDE, n, d, DAY + timedelta(on)) for n, d, on in given_]
    day = DAY + timedelta(later)
    wanted = sum(one.seats for one in grants if one.on <= day < one.on + timedelta(one.days))
    assert course_of(grants, together=False).seats_on(day) == wanted


def test_states_by_what_is_needed() -> None:
    pool = Pool(name="p", seats=10, grace_days=5)
    ended = [Grant(Act.TOP_UP, 20, 10, DAY)]
    course = course_of(ended, together=True)
    found = {
        after: standing_on(pool, course, DAY + timedelta(after)) for after in (0, 9, 10, 14, 15)
    }
    assert [one.seats for one in found.values()] == [30, 30, 30, 30, 10]
    assert [one.in_grace for one in found.values()] == [0, 0, 20, 20, 0]
    assert found[10].lasts_on == DAY + timedelta(14)
    assert state_of(pool, found[9], 30) is PoolState.COVERED
    assert state_of(pool, found[9], 31) is PoolState.SHORT
    assert state_of(pool, found[10], 30) is PoolState.GRACE
    assert state_of(pool, found[10], 10) is PoolState.COVERED
    assert state_of(pool, found[15], 11) is PoolState.LAPSED
    assert state_of(pool, found[15], 10) is PoolState.COVERED
    assert state_of(Pool(name="p"), Standing(0, 0, ended_on=DAY), 0) is PoolState.LAPSED


def test_a_leap_day_is_a_day() -> None:
    books = book([Grant(Act.TOP_UP, 3, 2, date(2028, 2, 28))], date(2028, 2, 28))[-1]
    assert books.ends_on == date(2028, 3, 1)
    assert books.at(date(2028, 2, 29)).seat_days == 3


def test_the_wrong_choice_is_visibly_wrong() -> None:
    """Short by twelve with half a year to go, and a voucher for forty seats: rolled over, most
    devices have none from today.
    """
    pool = Pool(name="Signage", term=Term.SHARED)
    found = compare(
        pool=pool,
        grants=[Grant(Act.TOP_UP, 130, 365, DAY - timedelta(180))],
        seats=40,
        days=185,
        needed=142,
        growth=Growth(),
        today=DAY,
    )
    top_up, rollover = found.outcomes
    assert found.now.state is PoolState.SHORT
    assert (top_up.state, top_up.standing.seats, top_up.uncovered) == (PoolState.COVERED, 170, 0)
    assert (top_up.moved_days, top_up.days) == (0, 185)
    assert (rollover.state, rollover.uncovered) == (PoolState.SHORT, 102)
    assert rollover.uncovered_on == DAY
    assert rollover.without == 102 * 185
    assert top_up.without < rollover.without
    assert found.best is Act.TOP_UP
    assert found.gained == 40 * 185


def test_the_day_it_turns_short() -> None:
    def seats_on(day: date) -> int:
        return 10 if day < DAY + timedelta(100) else 0

    assert forecast(10, Growth(), seats_on, DAY).short_on == DAY + timedelta(100)
    assert forecast(10, Growth(), seats_on, DAY).by_end
    grows = forecast(8, Growth(came=90), seats_on, DAY)
    assert (grows.short_on, grows.missing, grows.by_end) == (DAY + timedelta(3), 1, False)
    awaited = forecast(8, Growth(awaited=4, usual_days=10), seats_on, DAY)
    assert awaited.short_on == DAY + timedelta(8)
    assert forecast(0, Growth(), seats_on, DAY).short_on is None


def test_a_thousand_years_are_no_fault() -> None:
    """A hundred million seats for a century, rolled over to one."""
    grants = [Grant(Act.TOP_UP, 100_000_000, 36_500, DAY), Grant(Act.ROLLOVER, 1, 1, DAY)]
    books = book(grants, DAY)[-1]
    assert books.seat_days == 3_650_000_000_001
    assert course_of(grants, together=True).seats_on(date(8_999, 1, 1), 365) == 1
    pool = Pool(name="p", grace_days=365)
    found = compare(pool, grants, 5, 5, 2, Growth(), DAY)
    assert [one.uncovered for one in found.outcomes] == [0, 0]
