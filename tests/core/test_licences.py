"""Seats: which device takes one."""

from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.licences import Pool, PoolState, needs_seat, state
from sortitor.core.vocabulary import Ownership, Platform, Stage

platforms, ownerships, stages = st.sampled_from(Platform), st.sampled_from(Ownership), st.sampled_from(Stage)
pools = st.builds(
    Pool, name=st.just("p"), seats=st.integers(0, 10), platforms=st.lists(platforms, unique=True).map(tuple), ownerships=st.lists(ownerships, unique=True).map(tuple),
    awaited_too=st.booleans(),
)  # fmt: skip
fleet = st.lists(st.tuples(stages, st.one_of(st.none(), platforms), ownerships), max_size=40)


@given(pools, fleet)
def test_the_count_is_that_of_the_devices_and_nothing_else(pool: Pool, devices: list[tuple[Stage, Platform | None, Ownership]]) -> None:
    needed = [d for d in devices if needs_seat(pool, *d)]
    for stage, platform, ownership in needed:
        assert stage is not Stage.RETIRED
        assert stage is not Stage.AWAITED or pool.awaited_too
        assert not pool.platforms or platform in pool.platforms
        assert not pool.ownerships or ownership in pool.ownerships
    assert state(len(needed), pool.seats) is (PoolState.SHORT if len(needed) > pool.seats else PoolState.COVERED)


@given(fleet)
def test_platforms_share_out_a_pool_of_all(devices: list[tuple[Stage, Platform | None, Ownership]]) -> None:
    """One pool for everything needs as many seats as pools by platform and the devices without one together."""
    every = sum(needs_seat(Pool("p", 0), *d) for d in devices)
    parts = sum(needs_seat(Pool("p", 0, (platform,)), *d) for platform in Platform for d in devices)
    without = sum(needs_seat(Pool("p", 0), *d) for d in devices if d[1] is None)
    assert every == parts + without
