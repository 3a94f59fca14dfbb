"""What is kept of devices, held to what the core decides."""

from __future__ import annotations

from tests.worlds import World

from sortitor.core.kits import resolve
from sortitor.core.kits.resolve import GIVEN
from sortitor.operations.kits.library import read
from sortitor.operations.kits.reading import bring_up
from sortitor.store import filters
from sortitor.store.engine import transaction


def agree_on_kits(world: World, done: object = "") -> None:
    """What is kept of every device decides as the core would by all that is known of it."""
    bring_up(world.run.context("test"))
    with transaction(world.run.engine) as connection:
        library = read(connection)
        numbers = [row[0] for row in world.rows("SELECT id FROM devices WHERE stage <> 'retired'")]
        values = filters.facts(connection, numbers, world.now)  # type: ignore[arg-type]
    inside: dict[object, set[int]] = {}
    for cohort_id, device_id in world.rows("SELECT cohort_id, device_id FROM cohort_members"):
        inside.setdefault(device_id, set()).add(int(str(cohort_id)))
    kept = dict(world.rows("SELECT device_id, facts FROM device_kits"))
    found = world.rows("SELECT facts, revision, required, offered FROM kit_outcomes")
    outcomes = {tuple(facts): rest for facts, *rest in found}  # type: ignore[arg-type]
    for device_id in numbers:
        numbers_kept: list[int] = kept.get(device_id, [])  # type: ignore[assignment]
        told = resolve.facts_of(library.book, inside.get(device_id, set()), values[device_id])  # type: ignore[index]
        by_core = resolve.effective(library.book, told)
        assert library.effective(library.facts(numbers_kept)) == by_core, (device_id, done)
        revision, required, offered = outcomes[tuple(numbers_kept)]
        assert revision == resolve.revision(library.book, told), (device_id, done)
        by_word = {
            word: [line.item_id for line in by_core if line.verdict == word] for word in GIVEN
        }
        assert [required, offered] == [*by_word.values()], (device_id, done)
    retired = world.rows(
        "SELECT count(*) FROM device_kits JOIN devices ON id = device_id"
        " WHERE stage = 'retired' AND facts <> '{}'"
    )
    assert retired == [(0,)], done
