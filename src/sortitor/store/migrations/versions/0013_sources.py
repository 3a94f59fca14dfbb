"""Sources, what they said last, how they disagree, and what a run did to people.

Purpose: other systems are asked on a schedule, compared with the fleet, and what a run changed of
people can be taken back like any other change.
Lock and disk cost: one column on people with a constant default (no rewrite); new tables, filled by
runs: about 250 bytes a device of a roster.
Way back: downgrade drops them; people stay as they are.
"""

from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

_MADE = (
    """
    CREATE TABLE sources (
        id BIGSERIAL NOT NULL,
        revision INTEGER DEFAULT '1' NOT NULL,
        document JSONB NOT NULL,
        name TEXT GENERATED ALWAYS AS (document ->> 'name') STORED NOT NULL,
        kind TEXT GENERATED ALWAYS AS (document ->> 'kind') STORED NOT NULL,
        filter TEXT GENERATED ALWAYS AS (document ->> 'covers') STORED,
        cursor TEXT,
        etag TEXT,
        good_at TIMESTAMP WITH TIME ZONE,
        whole_at TIMESTAMP WITH TIME ZONE,
        CONSTRAINT pk_sources PRIMARY KEY (id),
        CONSTRAINT ck_sources_kind CHECK (kind IN ('directory', 'registry', 'roster', 'push'))
    )
    """,
    "CREATE UNIQUE INDEX uq_sources_name ON sources (lower(name))",
    """
    CREATE TABLE source_secrets (
        id BIGSERIAL NOT NULL,
        source_id BIGINT NOT NULL,
        kind TEXT NOT NULL,
        sealed BYTEA NOT NULL,
        about JSONB DEFAULT '{}' NOT NULL,
        ends_at TIMESTAMP WITH TIME ZONE,
        made_at TIMESTAMP WITH TIME ZONE NOT NULL,
        made_by TEXT NOT NULL,
        waiting BOOLEAN DEFAULT 'false' NOT NULL,
        CONSTRAINT pk_source_secrets PRIMARY KEY (id),
        CONSTRAINT ck_source_secrets_kind CHECK (kind IN ('password', 'token', 'key',
            'certificate')),
        CONSTRAINT fk_source_secrets_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON
            DELETE CASCADE
    )
    """,
    "CREATE UNIQUE INDEX uq_source_secrets ON source_secrets (source_id, kind, waiting)",
    """
    CREATE TABLE source_runs (
        id BIGSERIAL NOT NULL,
        source_id BIGINT NOT NULL,
        source_name TEXT NOT NULL,
        whole BOOLEAN NOT NULL,
        unbraked BOOLEAN DEFAULT 'false' NOT NULL,
        by TEXT NOT NULL,
        asked_at TIMESTAMP WITH TIME ZONE NOT NULL,
        ended_at TIMESTAMP WITH TIME ZONE,
        state TEXT NOT NULL,
        counts JSONB DEFAULT '{}' NOT NULL,
        remarks JSONB DEFAULT '[]' NOT NULL,
        problem JSONB,
        entry_id BIGINT,
        lot_id BIGINT,
        job_id BIGINT,
        CONSTRAINT pk_source_runs PRIMARY KEY (id),
        CONSTRAINT ck_source_runs_state CHECK (state IN ('waiting', 'running', 'done', 'failed',
            'braked', 'cancelled'))
    )
    """,
    "CREATE INDEX ix_source_runs_source_id_id ON source_runs (source_id, id)",
    """
    CREATE UNIQUE INDEX uq_source_runs_at_work ON source_runs (source_id)
        WHERE state IN ('waiting', 'running')
    """,
    """
    CREATE TABLE roster_devices (
        source_id BIGINT NOT NULL,
        key TEXT COLLATE "C" NOT NULL,
        serial TEXT,
        imei TEXT,
        imei2 TEXT,
        mac TEXT,
        uuid TEXT,
        maker TEXT,
        model TEXT,
        platform TEXT,
        order_name TEXT,
        person TEXT,
        site TEXT,
        name TEXT,
        extra JSONB DEFAULT '{}' NOT NULL,
        device_id BIGINT,
        changed_at TIMESTAMP WITH TIME ZONE NOT NULL,
        CONSTRAINT pk_roster_devices PRIMARY KEY (source_id, key),
        CONSTRAINT fk_roster_devices_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON
            DELETE CASCADE
    )
    """,
    "CREATE INDEX ix_roster_devices_device_id ON roster_devices (device_id, source_id)",
    """
    CREATE TABLE source_people (
        source_id BIGINT NOT NULL,
        key TEXT COLLATE "C" NOT NULL,
        person_id BIGINT NOT NULL,
        place TEXT COLLATE "C" NOT NULL,
        said JSONB NOT NULL,
        gone_at TIMESTAMP WITH TIME ZONE,
        CONSTRAINT pk_source_people PRIMARY KEY (source_id, key),
        CONSTRAINT fk_source_people_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON
            DELETE CASCADE,
        CONSTRAINT fk_source_people_person_id FOREIGN KEY(person_id) REFERENCES people (id) ON
            DELETE CASCADE
    )
    """,
    "CREATE INDEX ix_source_people_person_id ON source_people (person_id)",
    "CREATE INDEX ix_source_people_source_id_place ON source_people (source_id, place)",
    """
    CREATE TABLE source_groups (
        source_id BIGINT NOT NULL,
        key TEXT COLLATE "C" NOT NULL,
        group_id BIGINT NOT NULL,
        place TEXT COLLATE "C" NOT NULL,
        CONSTRAINT pk_source_groups PRIMARY KEY (source_id, key),
        CONSTRAINT fk_source_groups_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON
            DELETE CASCADE,
        CONSTRAINT fk_source_groups_group_id FOREIGN KEY(group_id) REFERENCES groups (id) ON
            DELETE CASCADE
    )
    """,
    "CREATE INDEX ix_source_groups_group_id ON source_groups (group_id)",
    "CREATE INDEX ix_source_groups_source_id_place ON source_groups (source_id, place)",
    """
    CREATE TABLE journal_people (
        entry_id BIGINT NOT NULL,
        person_id BIGINT NOT NULL,
        before JSONB,
        after JSONB NOT NULL,
        CONSTRAINT pk_journal_people PRIMARY KEY (entry_id, person_id)
    )
    """,
    """
    CREATE TABLE journal_members (
        entry_id BIGINT NOT NULL,
        group_id BIGINT NOT NULL,
        person_id BIGINT,
        inner_id BIGINT,
        came BOOLEAN NOT NULL,
        CONSTRAINT ck_journal_members_one CHECK ((person_id IS NULL) <> (inner_id IS NULL))
    )
    """,
    "CREATE INDEX ix_journal_members_entry_id ON journal_members (entry_id)",
    """
    CREATE TABLE discrepancies (
        id BIGSERIAL NOT NULL,
        key TEXT COLLATE "C" NOT NULL,
        kind TEXT NOT NULL,
        source_id BIGINT NOT NULL,
        device_id BIGINT,
        roster_key TEXT COLLATE "C",
        field TEXT,
        ours TEXT,
        theirs TEXT,
        label TEXT NOT NULL,
        near_id BIGINT,
        near_percent INTEGER,
        state TEXT DEFAULT 'open' NOT NULL,
        until_on DATE,
        owner TEXT,
        note TEXT,
        first_at TIMESTAMP WITH TIME ZONE NOT NULL,
        seen_at TIMESTAMP WITH TIME ZONE NOT NULL,
        closed_at TIMESTAMP WITH TIME ZONE,
        done_at TIMESTAMP WITH TIME ZONE,
        done_by TEXT,
        CONSTRAINT pk_discrepancies PRIMARY KEY (id),
        CONSTRAINT ck_discrepancies_kind CHECK (kind IN ('absent', 'unknown', 'alive',
            'differs', 'twice')),
        CONSTRAINT ck_discrepancies_state CHECK (state IN ('open', 'done', 'accepted',
            'ignored', 'closed')),
        CONSTRAINT fk_discrepancies_source_id FOREIGN KEY(source_id) REFERENCES sources (id) ON
            DELETE CASCADE
    )
    """,
    "CREATE INDEX ix_discrepancies_device_id ON discrepancies (device_id)",
    "CREATE INDEX ix_discrepancies_source_id_kind ON discrepancies (source_id, kind)",
    "CREATE INDEX ix_discrepancies_standing ON discrepancies (id) WHERE state != 'closed'",
    "CREATE UNIQUE INDEX uq_discrepancies_key ON discrepancies (key)",
    """
    CREATE TABLE levels (
        id BIGINT NOT NULL,
        at TIMESTAMP WITH TIME ZONE NOT NULL,
        entry_id BIGINT NOT NULL,
        run_id BIGINT NOT NULL,
        document JSONB NOT NULL,
        CONSTRAINT pk_levels PRIMARY KEY (id)
    )
    """,
    """
    CREATE TABLE level_days (
        on_day DATE NOT NULL,
        kind TEXT NOT NULL,
        open INTEGER NOT NULL,
        CONSTRAINT pk_level_days PRIMARY KEY (on_day, kind)
    )
    """,
)
_TABLES = (
    "sources",
    "source_secrets",
    "source_runs",
    "roster_devices",
    "source_people",
    "source_groups",
    "journal_people",
    "journal_members",
    "discrepancies",
    "levels",
    "level_days",
)


def upgrade() -> None:
    op.execute("ALTER TABLE people ADD COLUMN manual TEXT[] NOT NULL DEFAULT '{}'")
    for statement in _MADE:
        op.execute(statement)


def downgrade() -> None:
    for table in reversed(_TABLES):
        op.execute(f"DROP TABLE {table}")
    op.execute("ALTER TABLE people DROP COLUMN manual")
