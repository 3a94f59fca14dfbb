"""Sources as they stand: how old what they said is, what opens them and until when, and what they
said.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sortitor.core.sources import Source, next_run_at, state_of
from sortitor.core.vocabulary import RunState, SecretKind, SourceKind, SourceState
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import Key
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sources.runs import standing_of
from sortitor.store import licences
from sortitor.store import sources as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.sources import HeldRow, SecretRow, StandingRow
from sortitor.store.sources import RosterRow as RosterRow

_DIAGNOSED_RUNS = 10


@dataclass(frozen=True, slots=True)
class SecretShown:
    """What may be seen of what opens a source."""

    kind: SecretKind
    waiting: bool
    ends_at: datetime | None
    made_at: datetime
    made_by: str
    words: str


@dataclass(frozen=True, slots=True)
class SourceDetail:
    """A source with its state, age, holdings and credentials."""

    kept: Kept[Source]
    stands: SourceStanding
    held: HeldRow
    keys: int
    secrets: tuple[SecretShown, ...]


@dataclass(frozen=True, slots=True)
class SourceStanding:
    """A source with its state and age, without what it knows."""

    kept: Kept[Source]
    state: SourceState
    row: StandingRow
    next_at: datetime | None
    good_at: datetime | None


def standings(ctx: Context) -> list[SourceStanding]:
    """How every source stands, at a price that does not grow with what it knows."""
    with ctx.reading() as connection:
        return _standings(ctx, connection, SOURCES.shelf.every(connection))


def every(ctx: Context) -> list[SourceDetail]:
    """All sources by name."""
    with ctx.reading() as connection:
        return _details(ctx, connection, SOURCES.shelf.every(connection))


def one(ctx: Context, key: Key) -> SourceDetail:
    """One source."""
    with ctx.reading() as connection:
        return _details(ctx, connection, [SOURCES.find(connection, key)])[0]


def detail(ctx: Context, kept: Kept[Source]) -> SourceDetail:
    """A source at hand."""
    with ctx.reading() as connection:
        return _details(ctx, connection, [kept])[0]


def _details(
    ctx: Context, connection: Connection, found: Sequence[Kept[Source]]
) -> list[SourceDetail]:
    secrets: dict[int, list[SecretShown]] = {}
    for row in store.secrets(connection):
        secrets.setdefault(row.source_id, []).append(_shown(row))
    held, keys = store.held(connection), licences.key_counts(connection)
    details = []
    for stands in _standings(ctx, connection, found):
        number = stands.kept.id
        known = held[number]
        if stands.kept.document.kind is SourceKind.PUSH:
            known = replace(known, people=store.pushed(connection))
        opened = tuple(secrets.get(number, ()))
        details.append(
            SourceDetail(
                kept=stands.kept,
                stands=stands,
                held=known,
                keys=keys.get(number, 0),
                secrets=opened,
            )
        )
    return details


def _standings(
    ctx: Context, connection: Connection, found: Sequence[Kept[Source]]
) -> list[SourceStanding]:
    rows = store.standings(connection)
    return [_standing(ctx, kept, rows[kept.id]) for kept in found]


def _standing(ctx: Context, kept: Kept[Source], row: StandingRow) -> SourceStanding:
    standing = standing_of(row)
    next_at = next_run_at(kept.document, standing)
    if row.last_state is RunState.BRAKED:
        next_at = None
    return SourceStanding(
        kept=kept,
        state=state_of(kept.document, standing, ctx.now),
        row=row,
        next_at=max(next_at, ctx.now) if next_at is not None else None,
        good_at=standing.good_at,
    )


def _shown(row: SecretRow) -> SecretShown:
    about = row.about
    words = ""
    if row.kind is SecretKind.KEY:
        words = f"certificate {about.get('fingerprint', '')[:16]}"
    elif "issuer" in about:
        words = f"of {about['issuer']} for {about['server']}"
    return SecretShown(row.kind, row.waiting, row.ends_at, row.made_at, row.made_by, words)


def roster(
    ctx: Context, key: Key, query: str | None, unknown_only: bool, after: str | None, limit: int
) -> list[RosterRow]:
    """What a source says of devices, by its own numbers. To whoever may not see the identifiers of
    personal devices, lines of such devices are not shown.
    """
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
        return list(
            store.roster(
                connection,
                kept.id,
                query,
                unknown_only,
                after,
                limit,
                without_personal=not ctx.veil.lifted,
            )
        )


def diagnosis(ctx: Context, key: Key) -> str:
    """What is to be handed to whoever helps: settings, state, runs; no secret, no person."""
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
        row = or_not_found(store.standing(connection, kept.id), "source", key)
        held = or_not_found(store.held_by(connection, kept.id), "source", key)
        runs = store.runs(connection, kept.id, None, _DIAGNOSED_RUNS)
        secrets = store.secrets(connection, kept.id)
    standing = standing_of(row)
    lines = [
        f"Source: {kept.document.name} ({kept.document.kind}), revision {kept.revision}",
        f"At: {ctx.now:%Y-%m-%d %H:%M:%S} UTC",
        f"State: {state_of(kept.document, standing, ctx.now)}",
        f"Last read: {_moment(row.good_at)}; whole: {_moment(row.whole_at)}",
        f"Holds: {held.devices} devices ({held.unknown} unknown here), {held.people} people,"
        f" {held.groups} groups",
        "",
        "Settings:",
    ]
    for name, value in kept.document.as_json().items():
        if name not in ("name", "kind", "authority") and value not in (None, [], ""):
            lines.append(f"  {name}: {value}")
    if kept.document.authority:
        lines.append("  authority: given")
    lines += ["", "Opened with:"]
    lines += [
        f"  {secret.kind}{' (waiting)' if secret.waiting else ''}: since {_moment(secret.made_at)},"
        f" until {_moment(secret.ends_at)}"
        for secret in secrets
    ] or ["  nothing"]
    lines += ["", "Runs, newest first:"]
    for run in runs:
        lines.append(
            f"  {run.id}: {_moment(run.asked_at)} {'whole' if run.whole else 'changes'},"
            f" {run.state}, {run.counts}"
        )
        if run.problem:
            lines.append(f"    {run.problem['code']}: {run.problem['detail']}")
        lines += [f"    {remark['count']} {remark['words']}" for remark in run.remarks]
    return "\n".join(lines) + "\n"


def _moment(at: datetime | None) -> str:
    return f"{at:%Y-%m-%d %H:%M:%S}" if at else "never"
