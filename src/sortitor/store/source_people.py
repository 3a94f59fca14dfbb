"""What a directory says of people and groups, beside what is known of them, and taken over."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

import polars as pl
from sqlalchemy import Connection, select

from sortitor.core.journal import PeopleUndoing
from sortitor.store import bulk, groups
from sortitor.store.engine import raw
from sortitor.store.settling import settle_alone
from sortitor.store.tables import metadata, people, source_people

_FIELDS = ("user_name", "name", "mail", "department", "site")
_PEOPLE = (
    'key text COLLATE "C", user_name text, name text, mail text, department text, site text,'
    ' place text COLLATE "C", "left" boolean'
)


@dataclass(frozen=True, slots=True)
class PeopleMoved:
    """What a run changes of people and groups."""

    people_added: int
    people_changed: int
    people_left: int
    people_back: int
    groups_added: int
    groups_changed: int
    joins: int
    leaves: int
    #: How many people of this directory were here before.
    known: int
    #: How many of them it no longer lists.
    gone: int
    #: How many keep a user name that another person has.
    name_taken: int
    #: How many differ from it because somebody set them by hand.
    kept_by_hand: int


def stage(
    connection: Connection,
    source_id: int,
    people: pl.DataFrame,
    told_groups: pl.DataFrame,
    members: pl.DataFrame,
    whole: bool,
    now: datetime,
) -> PeopleMoved:
    """Work out, in temporary tables, what the directory's word changes; `whole`: whom it does not
    name it knows no longer.
    """
    bulk.with_room(connection)
    bulk.temporary(connection, "told_people", _PEOPLE, people)
    bulk.temporary(
        connection,
        "told_groups",
        'key text COLLATE "C", name text, place text COLLATE "C"',
        told_groups,
    )
    bulk.temporary(
        connection, "told_members", 'group_key text COLLATE "C", place text COLLATE "C"', members
    )
    values = {"source": source_id, "now": now, "whole": whole}
    for name, statement in _STAGED.items():
        raw(connection).execute(f"DROP TABLE IF EXISTS {name}")
        raw(connection).execute(f"CREATE TEMP TABLE {name} ON COMMIT DROP AS {statement}", values)
        raw(connection).execute(f"ANALYZE {name}")
    found = raw(connection).execute(_COUNTED, values).fetchone()
    return PeopleMoved(*cast("tuple[int, ...]", found))


def _said(field: str) -> str:
    """What becomes of a field: the directory's word, unless it was set by hand; where it is silent
    and always was, what is known stays.
    """
    silent = f"t.{field} IS NULL AND l.said ->> '{field}' IS NULL"
    return (
        f"CASE WHEN '{field}' = ANY (p.manual) OR ({silent}) THEN p.{field}"
        f" ELSE t.{field} END AS {field}"
    )


_PLAIN = ", ".join(_said(field) for field in _FIELDS if field != "user_name")

#: Temporary tables in their order, each with what is in it.
_STAGED = {
    # Who each entry is: by its number here, else by its user name, unless that person is another
    # entry that was told, too.
    "staged_people": f"""
        SELECT t.key, t.place, t."left", to_jsonb(t) - 'key' - 'place' - 'left' AS said,
            p.id AS person_id, p.left_at AS former_left_at,
            CASE WHEN p.id IS NULL THEN t.user_name
                WHEN 'user_name' = ANY (p.manual) OR EXISTS (SELECT FROM people o
                    WHERE lower(o.user_name) = lower(t.user_name) AND o.id <> p.id)
                THEN p.user_name ELSE t.user_name END AS user_name,
            t.user_name AS told_user_name,
            {_PLAIN},
            CASE WHEN 'left_at' = ANY (p.manual) THEN p.left_at
                WHEN t."left" THEN coalesce(p.left_at, %(now)s) END AS left_at,
            CASE WHEN p.id IS NOT NULL THEN jsonb_build_object('user_name', p.user_name, 'name',
                p.name, 'mail', p.mail, 'department', p.department, 'site', p.site, 'left_at',
                p.left_at) END AS before,
            coalesce(p.manual, '{{}}') AS manual
        FROM told_people t
        LEFT JOIN source_people l ON l.source_id = %(source)s AND l.key = t.key
        LEFT JOIN people p ON p.id = coalesce(l.person_id, (
            SELECT o.id FROM people o WHERE lower(o.user_name) = lower(t.user_name)
            AND NOT EXISTS (SELECT FROM source_people s JOIN told_people u ON u.key = s.key
                WHERE s.source_id = %(source)s AND s.person_id = o.id)))
        WHERE l.person_id IS NOT NULL OR p.id IS NOT NULL
            OR NOT EXISTS (SELECT FROM people o WHERE lower(o.user_name) = lower(t.user_name))
        """,  # noqa: S608
    "gone_people": """
        SELECT l.key, l.person_id FROM source_people l WHERE %(whole)s
            AND l.source_id = %(source)s AND l.gone_at IS NULL
            AND NOT EXISTS (SELECT FROM told_people t WHERE t.key = l.key)
            AND NOT EXISTS (SELECT FROM staged_people s WHERE s.person_id = l.person_id)
        """,
    "staged_groups": """
        SELECT t.key, t.place, g.id AS group_id, CASE WHEN g.id IS NULL OR NOT EXISTS (
                SELECT FROM groups o WHERE lower(o.name) = lower(t.name) AND o.id <> g.id)
            THEN t.name ELSE g.name END AS name, g.name AS former_name
        FROM told_groups t LEFT JOIN source_groups l ON l.source_id = %(source)s AND l.key = t.key
        LEFT JOIN groups g ON g.id = coalesce(l.group_id, (
            SELECT o.id FROM groups o WHERE lower(o.name) = lower(t.name)
            AND NOT EXISTS (SELECT FROM source_groups s JOIN told_groups u ON u.key = s.key
                WHERE s.source_id = %(source)s AND s.group_id = o.id)))
        WHERE l.group_id IS NOT NULL OR g.id IS NOT NULL
            OR NOT EXISTS (SELECT FROM groups o WHERE lower(o.name) = lower(t.name))
        """,
    "gone_groups": """
        SELECT l.key, l.group_id FROM source_groups l WHERE %(whole)s AND l.source_id = %(source)s
            AND NOT EXISTS (SELECT FROM told_groups t WHERE t.key = l.key)
            AND NOT EXISTS (SELECT FROM staged_groups s WHERE s.group_id = l.group_id)
        """,
}

_CHANGED = (
    "s.before IS NOT NULL AND (s.before - 'left_at') IS DISTINCT FROM jsonb_build_object("
    "'user_name', s.user_name, 'name', s.name, 'mail', s.mail, 'department', s.department,"
    " 'site', s.site)"
)
#: Who belongs where by the directory's word, as places; resolved once everybody has a number.
_WANTED = """
    SELECT DISTINCT g.key AS group_key, p.key AS person_key, NULL::text AS inner_key
    FROM told_members m JOIN staged_groups g ON g.key = m.group_key
    JOIN staged_people p ON p.place = m.place
    UNION SELECT DISTINCT g.key, l.key, NULL FROM told_members m
    JOIN staged_groups g ON g.key = m.group_key
    JOIN source_people l ON l.source_id = %(source)s AND l.place = m.place AND l.gone_at IS NULL
    WHERE NOT %(whole)s
    UNION SELECT DISTINCT g.key, NULL, i.key FROM told_members m
    JOIN staged_groups g ON g.key = m.group_key JOIN staged_groups i ON i.place = m.place
        AND i.key <> g.key
    UNION SELECT DISTINCT g.key, NULL, l.key FROM told_members m
    JOIN staged_groups g ON g.key = m.group_key
    JOIN source_groups l ON l.source_id = %(source)s AND l.place = m.place AND l.key <> g.key
    WHERE NOT %(whole)s
"""
_STAGED["staged_members"] = _WANTED
#: The same in numbers, for those who have one already.
_KNOWN_WANTED = """
    SELECT g.group_id, p.person_id, i.group_id AS inner_id FROM staged_members m
    JOIN staged_groups g ON g.key = m.group_key
    LEFT JOIN (SELECT key, person_id FROM staged_people UNION SELECT key, person_id
        FROM source_people WHERE source_id = %(source)s) p ON p.key = m.person_key
    LEFT JOIN (SELECT key, group_id FROM staged_groups UNION SELECT key, group_id
        FROM source_groups WHERE source_id = %(source)s) i ON i.key = m.inner_key
"""
_HAD = """
    SELECT h.group_id, h.person_id, NULL::bigint AS inner_id FROM group_people h
    WHERE h.group_id IN (SELECT group_id FROM staged_groups UNION SELECT group_id FROM gone_groups)
    UNION ALL SELECT h.group_id, NULL, h.inner_id FROM group_groups h
    WHERE h.group_id IN (SELECT group_id FROM staged_groups UNION SELECT group_id FROM gone_groups)
"""
_COUNTED = f"""
WITH wanted AS ({_KNOWN_WANTED}), had AS ({_HAD})
SELECT (SELECT count(*) FROM staged_people WHERE before IS NULL),
    (SELECT count(*) FROM staged_people s WHERE {_CHANGED}),
    (SELECT count(*) FROM staged_people WHERE left_at IS NOT NULL AND former_left_at IS NULL
        AND before IS NOT NULL)
        + (SELECT count(*) FROM gone_people g JOIN people p ON p.id = g.person_id
            WHERE p.left_at IS NULL AND NOT 'left_at' = ANY (p.manual)),
    (SELECT count(*) FROM staged_people WHERE left_at IS NULL AND former_left_at IS NOT NULL),
    (SELECT count(*) FROM staged_groups WHERE group_id IS NULL),
    (SELECT count(*) FROM staged_groups WHERE group_id IS NOT NULL AND name <> former_name)
        + (SELECT count(*) FROM gone_groups),
    (SELECT count(*) FROM (SELECT * FROM wanted WHERE group_id IS NOT NULL
            AND (person_id IS NOT NULL OR inner_id IS NOT NULL) EXCEPT SELECT * FROM had) j)
        + (SELECT count(*) FROM wanted WHERE group_id IS NULL
            OR (person_id IS NULL AND inner_id IS NULL)),
    (SELECT count(*) FROM (SELECT * FROM had EXCEPT SELECT * FROM wanted) l),
    (SELECT count(*) FROM source_people WHERE source_id = %(source)s AND gone_at IS NULL),
    (SELECT count(*) FROM gone_people),
    (SELECT count(*) FROM told_people t LEFT JOIN staged_people s ON s.key = t.key
        WHERE s.key IS NULL OR (lower(s.user_name) <> lower(t.user_name)
            AND NOT 'user_name' = ANY (s.manual))),
    (SELECT count(*) FROM staged_people s JOIN told_people t ON t.key = s.key
        WHERE ('user_name' = ANY (s.manual) AND s.user_name <> t.user_name)
            OR ('name' = ANY (s.manual) AND s.name IS DISTINCT FROM t.name)
            OR ('mail' = ANY (s.manual) AND s.mail IS DISTINCT FROM t.mail)
            OR ('department' = ANY (s.manual) AND s.department IS DISTINCT FROM t.department)
            OR ('site' = ANY (s.manual) AND s.site IS DISTINCT FROM t.site)
            OR ('left_at' = ANY (s.manual) AND (s.left_at IS NOT NULL) <> t."left"))
"""  # noqa: S608 - only texts of this file


def examples(connection: Connection, most: int) -> list[tuple[str, str, str | None, str | None]]:
    """`name, field, before, after` of people whom the staged run would change, in order."""
    lines = " UNION ALL ".join(
        f"SELECT user_name AS who, '{field}' AS field, before ->> '{field}' AS before,"  # noqa: S608
        f" {field}::text AS after FROM staged_people"
        f" WHERE before ->> '{field}' IS DISTINCT FROM {field}"
        for field in _FIELDS
    )
    found = raw(connection).execute(
        f"""
        SELECT who, field, before, after FROM (
            SELECT p.user_name AS who, 'person' AS field, 'here' AS before, 'left' AS after
            FROM gone_people g JOIN people p ON p.id = g.person_id WHERE p.left_at IS NULL
            UNION ALL SELECT user_name, 'person', CASE WHEN former_left_at IS NULL THEN 'here' ELSE
                'left' END, CASE WHEN left_at IS NULL THEN 'here' ELSE 'left' END
            FROM staged_people WHERE before IS NOT NULL
                AND (left_at IS NULL) <> (former_left_at IS NULL)
            UNION ALL {lines}) AS line
        ORDER BY field <> 'person', who, field LIMIT %s
        """,  # noqa: S608
        [most],
    )
    return cast("list[tuple[str, str, str | None, str | None]]", found.fetchall())


def hold(connection: Connection) -> None:
    """Let nobody else write people or groups until this transaction has ended: what is worked out
    is written as it was worked out. People before groups, as an import of people takes them.
    """
    raw(connection).execute("LOCK TABLE people IN SHARE ROW EXCLUSIVE MODE")
    groups.hold_still(connection)


def take_over(connection: Connection, source_id: int, entry_id: int, now: datetime) -> None:
    """Write what was staged, with what the entry did to each person and group."""
    values: dict[str, Any] = {"source": source_id, "entry": entry_id, "now": now}
    values |= {"taken": False, "put": True, "whole": False}
    run = raw(connection).execute
    for statement in _TAKEN_OVER:
        run(statement, values)
    touched = run(
        "SELECT DISTINCT group_id FROM journal_members WHERE entry_id = %(entry)s", values
    ).fetchall()
    renamed = run(
        "SELECT group_id FROM staged_groups WHERE former_name IS NOT NULL AND name <> former_name"
    ).fetchall()
    _settle(connection, entry_id, [row[0] for row in touched], [row[0] for row in renamed])


def note(connection: Connection, source_id: int, now: datetime) -> None:
    """Keep which entry is whom, where a run changes nobody."""
    for statement in _NOTED:
        raw(connection).execute(statement, {"source": source_id, "now": now})


def _settle(connection: Connection, entry_id: int, touched: list[Any], renamed: list[Any]) -> None:
    """Bring memberships and cohorts to what is known of people now."""
    groups.resolve(connection, [int(one) for one in touched], [int(one) for one in renamed])
    raw(connection).execute("DROP TABLE IF EXISTS moved_by_entry")
    raw(connection).execute(
        "CREATE TEMP TABLE moved_by_entry ON COMMIT DROP AS"
        " SELECT person_id FROM journal_people WHERE entry_id = %s",
        [entry_id],
    )
    settle_alone(
        connection,
        "SELECT d.id FROM devices d JOIN moved_by_entry p ON p.person_id = d.person_id",
        {"person"},
    )


_NOTED = (
    # Another entry may be the person of one that was deleted.
    """
    DELETE FROM source_people l USING staged_people s
    WHERE l.source_id = %(source)s AND l.person_id = s.person_id AND l.key <> s.key
    """,
    """
    INSERT INTO source_people (source_id, key, person_id, place, said)
    SELECT %(source)s, key, person_id, place, said FROM staged_people
    ON CONFLICT (source_id, key) DO UPDATE SET person_id = EXCLUDED.person_id,
        place = EXCLUDED.place, said = EXCLUDED.said, gone_at = NULL
    WHERE (source_people.place, source_people.said, source_people.gone_at)
        IS DISTINCT FROM (EXCLUDED.place, EXCLUDED.said, NULL::timestamptz)
    """,
    """
    UPDATE source_people l SET gone_at = %(now)s FROM gone_people g
    WHERE l.source_id = %(source)s AND l.key = g.key
    """,
)
_MEMBERS = (
    """
    DELETE FROM group_people m USING journal_members j WHERE j.entry_id = %(entry)s
        AND j.came = %(taken)s AND m.group_id = j.group_id AND m.person_id = j.person_id
    """,
    """
    DELETE FROM group_groups m USING journal_members j WHERE j.entry_id = %(entry)s
        AND j.came = %(taken)s AND m.group_id = j.group_id AND m.inner_id = j.inner_id
    """,
    """
    INSERT INTO group_people (group_id, person_id) SELECT j.group_id, j.person_id
    FROM journal_members j JOIN groups g ON g.id = j.group_id JOIN people p ON p.id = j.person_id
    WHERE j.entry_id = %(entry)s AND j.came = %(put)s ON CONFLICT DO NOTHING
    """,
    """
    INSERT INTO group_groups (group_id, inner_id) SELECT j.group_id, j.inner_id
    FROM journal_members j JOIN groups g ON g.id = j.group_id JOIN groups i ON i.id = j.inner_id
    WHERE j.entry_id = %(entry)s AND j.came = %(put)s ON CONFLICT DO NOTHING
    """,
)
_AS_JSON = (
    "jsonb_build_object('user_name', {p}.user_name, 'name', {p}.name, 'mail', {p}.mail,"
    " 'department', {p}.department, 'site', {p}.site, 'left_at', {p}.left_at)"
)
_TAKEN_OVER = (
    # Who changes, in the order of their numbers, as every arrival that locks people does.
    """
    SELECT FROM people WHERE id IN (SELECT person_id FROM staged_people UNION SELECT person_id
        FROM gone_people) ORDER BY id FOR UPDATE
    """,
    f"""
    WITH changed AS (
        UPDATE people p SET user_name = s.user_name, name = s.name, mail = s.mail,
            department = s.department, site = s.site, left_at = s.left_at,
            revision = p.revision + 1, changed_at = %(now)s
        FROM staged_people s WHERE s.person_id = p.id
            AND (({_CHANGED}) OR s.left_at IS DISTINCT FROM s.former_left_at)
        RETURNING p.id, s.before, {_AS_JSON.format(p="p")} AS after
    )
    INSERT INTO journal_people (entry_id, person_id, before, after)
    SELECT %(entry)s, id, before, after FROM changed
    """,  # noqa: S608
    f"""
    WITH added AS (
        INSERT INTO people (user_name, name, mail, department, site, left_at)
        SELECT user_name, coalesce(name, user_name), mail, department, site, left_at
        FROM staged_people WHERE person_id IS NULL ORDER BY lower(user_name)
        RETURNING id, user_name, {_AS_JSON.format(p="people")} AS after
    ), numbered AS (
        UPDATE staged_people s SET person_id = a.id FROM added a WHERE s.person_id IS NULL
            AND s.user_name = a.user_name
    )
    INSERT INTO journal_people (entry_id, person_id, after)
    SELECT %(entry)s, id, after FROM added
    """,  # noqa: S608
    f"""
    WITH changed AS (
        UPDATE people p SET left_at = %(now)s, revision = p.revision + 1, changed_at = %(now)s
        FROM gone_people g WHERE g.person_id = p.id AND p.left_at IS NULL
            AND NOT 'left_at' = ANY (p.manual)
        RETURNING p.id, {_AS_JSON.format(p="p")} AS after
    )
    INSERT INTO journal_people (entry_id, person_id, before, after)
    SELECT %(entry)s, id, jsonb_set(after, '{{left_at}}', 'null'), after FROM changed
    """,  # noqa: S608
    *_NOTED,
    """
    WITH added AS (
        INSERT INTO groups (name) SELECT name FROM staged_groups WHERE group_id IS NULL
        ORDER BY lower(name) RETURNING id, name
    )
    UPDATE staged_groups s SET group_id = a.id FROM added a
    WHERE s.group_id IS NULL AND s.name = a.name
    """,
    """
    UPDATE groups g SET name = s.name, revision = g.revision + 1, changed_at = %(now)s
    FROM staged_groups s WHERE s.group_id = g.id AND s.name <> g.name
    """,
    """
    INSERT INTO source_groups (source_id, key, group_id, place)
    SELECT %(source)s, key, group_id, place FROM staged_groups
    ON CONFLICT (source_id, key) DO UPDATE SET group_id = EXCLUDED.group_id, place = EXCLUDED.place
    WHERE (source_groups.group_id, source_groups.place)
        IS DISTINCT FROM (EXCLUDED.group_id, EXCLUDED.place)
    """,
    f"""
    INSERT INTO journal_members (entry_id, group_id, person_id, inner_id, came)
    WITH wanted AS ({_KNOWN_WANTED}), had AS ({_HAD})
    SELECT %(entry)s, group_id, person_id, inner_id, true
    FROM (SELECT * FROM wanted WHERE num_nonnulls(person_id, inner_id) = 1
        EXCEPT SELECT * FROM had) come
    UNION ALL SELECT %(entry)s, group_id, person_id, inner_id, false
    FROM (SELECT * FROM had EXCEPT SELECT * FROM wanted) gone
    """,  # noqa: S608
    *_MEMBERS,
    """
    DELETE FROM source_groups l USING gone_groups g WHERE l.source_id = %(source)s
        AND l.key = g.key
    """,
)


# ---- taking it back


def _referring() -> str:
    """Whether anything but a membership or a source's entry speaks of a person `p`."""
    checks = []
    for table in metadata.sorted_tables:
        for column in table.columns:
            for key in column.foreign_keys:
                if key.column.table.name == "people" and key.ondelete != "CASCADE":
                    checks.append(
                        f"EXISTS (SELECT FROM {table.name} x WHERE x.{column.name} = p.id)"
                    )
    return " OR ".join(checks)


_UNDOING = f"""
CREATE TEMP TABLE undoing_people ON COMMIT DROP AS
SELECT j.person_id, j.before, p.name,
    CASE WHEN p.id IS NULL OR {_AS_JSON.format(p="p")} IS DISTINCT FROM j.after THEN 'left'
        WHEN j.before IS NOT NULL THEN 'restore'
        WHEN {_referring()} THEN 'left' ELSE 'remove' END AS action
FROM journal_people j LEFT JOIN people p ON p.id = j.person_id WHERE j.entry_id = %s
"""  # noqa: S608


def person_of(connection: Connection, source_id: int, key: str) -> int | None:
    """The person that an entry of a directory is, unless they are gone."""
    query = (
        select(source_people.c.person_id)
        .join(people, people.c.id == source_people.c.person_id)
        .where(
            source_people.c.source_id == source_id,
            source_people.c.key == key,
            source_people.c.gone_at.is_(None),
            people.c.left_at.is_(None),
        )
    )
    return connection.execute(query).scalar_one_or_none()


def plan_undoing(connection: Connection, entry_id: int, most: int = 50) -> PeopleUndoing:
    """Work out, in the temporary table `undoing_people`, what reverting the entry does."""
    run = raw(connection).execute
    run("DROP TABLE IF EXISTS undoing_people")
    run(_UNDOING, [entry_id])
    counted = dict(
        cast(
            "list[tuple[str, int]]",
            run("SELECT action, count(*) FROM undoing_people GROUP BY action").fetchall(),
        )
    )
    memberships = run(
        "SELECT count(*) FROM journal_members WHERE entry_id = %s", [entry_id]
    ).fetchone()
    lines = run(
        "SELECT coalesce(name, 'person ' || person_id), action FROM undoing_people"
        " ORDER BY action <> 'left', name LIMIT %s",
        [most],
    ).fetchall()
    return PeopleUndoing(
        restored=counted.get("restore", 0),
        removed=counted.get("remove", 0),
        left=counted.get("left", 0),
        memberships=cast("tuple[int]", memberships)[0],
        lines=tuple(cast("list[tuple[str, str]]", lines)),
    )


def undo(connection: Connection, entry_id: int, revert_id: int, now: datetime) -> None:
    """Carry out what was planned."""
    run = raw(connection).execute
    touched = run(
        "SELECT DISTINCT group_id FROM journal_members WHERE entry_id = %s", [entry_id]
    ).fetchall()
    for statement in _MEMBERS:
        run(statement, {"entry": entry_id, "taken": True, "put": False})
    run(
        f"""
        WITH changed AS (
            UPDATE people p SET user_name = u.before ->> 'user_name', name = u.before ->> 'name',
                mail = u.before ->> 'mail', department = u.before ->> 'department',
                site = u.before ->> 'site', left_at = (u.before ->> 'left_at')::timestamptz,
                revision = p.revision + 1, changed_at = %s
            FROM undoing_people u WHERE u.person_id = p.id AND u.action = 'restore'
            RETURNING p.id, {_AS_JSON.format(p="p")} AS after
        )
        INSERT INTO journal_people (entry_id, person_id, before, after)
        SELECT %s, c.id, j.after, c.after FROM changed c
        JOIN journal_people j ON j.entry_id = %s AND j.person_id = c.id
        """,  # noqa: S608
        [now, revert_id, entry_id],
    )
    run(
        "DELETE FROM people p USING undoing_people u WHERE u.person_id = p.id"
        " AND u.action = 'remove'"
    )
    _settle(connection, revert_id, [row[0] for row in touched], [])
