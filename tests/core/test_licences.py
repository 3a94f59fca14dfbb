"""Seats: which device takes one."""

from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.filters import matches, parse
from sortitor.core.licences.pools import Pool, Standing, needs_seat, state_of
from sortitor.core.vocabulary import Ownership, Platform, PoolState, Stage

platforms, ownerships, stages = (
    st.sampled_from(Platform),
    st.sampled_from(Ownership),
    st.sampled_from(Stage),
)
filters = st.sampled_from(
    [
        None,
        'platform eq "ios"',
        'not (platform eq "ios")',
        'ownership eq "personal" or platform eq null',
        'platform eq "linux" and ownership eq "corporate"',
    ]
)
pools = st.builds(
    Pool, name=st.just("p"), seats=st.integers(0, 10), filter=filters, awaited_too=st.booleans()
)
devices = st.fixed_dictionaries(
    {"stage": stages, "platform": st.one_of(st.none(), platforms), "ownership": ownerships}
)
fleet = st.lists(devices, max_size=40)


@given(pools, fleet)
def test_the_count_is_that_of_the_devices_and_nothing_else(
    pool: Pool, fleet: list[dict[str, str]]
) -> None:
    needed = [d for d in fleet if needs_seat(pool, d)]
    for device in needed:
        assert device["stage"] is not Stage.RETIRED
        assert device["stage"] is not Stage.AWAITED or pool.awaited_too
        assert pool.filter is None or matches(parse(pool.filter), device)[0]
    assert state_of(pool, Standing(pool.seats, 0), len(needed)) is (
        PoolState.SHORT if len(needed) > pool.seats else PoolState.COVERED
    )


@given(fleet)
def test_platforms_share_out_a_pool_of_all(fleet: list[dict[str, str]]) -> None:
    """One pool for everything needs as many seats as pools by platform and the devices without one
    together.
    """
    every = sum(needs_seat(Pool(name="p", seats=0), d) for d in fleet)
    parts = sum(
        needs_seat(Pool(name="p", seats=0, filter=f'platform eq "{platform}"'), d)
        for platform in Platform
        for d in fleet
    )
    without = sum(needs_seat(Pool(name="p", seats=0, filter="platform eq null"), d) for d in fleet)
    assert every == parts + without
