"""The way in: what the gate knew, what was asked and answered, terms, mails.

Purpose: a change of the gate is held against the arrivals of the last weeks as they were then; an
arrival is asked before it is decided, by codes that are mailed; mails leave with the change that
asks for them.
Lock and disk cost: columns on arrivals and passes, three of them indexed (locks each for the
building); about 600 bytes an arrival from now on. Earlier arrivals have no facts and are not
replayed.
Way back: downgrade drops what was added; arrivals that wait for an answer are refused.
"""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_TIME = sa.DateTime(timezone=True)
_CARD: dict[str, object] = {
    "organisation": "Your organisation",
    "colour": "#1d5c63",
    "picture": None,
    "help_name": None,
    "help_phone": None,
    "help_mail": None,
    "help_hours": None,
    "greetings": [],
}
_OUTCOMES = "outcome IN ('admitted', 'parked', 'refused')"
_PROOFS = "'none', 'passcode', 'pass', 'mail', 'directory', 'key'"


def upgrade() -> None:
    for column in (
        sa.Column("facts", JSONB()),
        sa.Column("secret_hash", sa.LargeBinary()),
        sa.Column("lapses_at", _TIME),
        sa.Column("decided_at", _TIME),
        sa.Column("collected_at", _TIME),
        sa.Column("asks", ARRAY(sa.Text()), nullable=False, server_default="{}"),
        sa.Column("proof", sa.Text(), nullable=False, server_default="none"),
        sa.Column("answers", JSONB(), nullable=False, server_default="{}"),
        sa.Column("shown_credential", sa.LargeBinary()),
        sa.Column("protocol", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("progress", JSONB()),
        sa.Column("moved_at", _TIME),
    ):
        op.add_column("arrivals", column)
    op.execute("UPDATE arrivals SET moved_at = at, decided_at = at")
    op.alter_column("arrivals", "moved_at", nullable=False)
    op.create_check_constraint(op.f("ck_arrivals_proof"), "arrivals", f"proof IN ({_PROOFS})")
    op.drop_constraint(op.f("ck_arrivals_outcome"), "arrivals")
    op.create_check_constraint(
        op.f("ck_arrivals_outcome"),
        "arrivals",
        "outcome IN ('admitted', 'parked', 'refused', 'asked')",
    )
    op.create_index(op.f("ix_arrivals_at"), "arrivals", ["at"])
    op.create_index(op.f("ix_arrivals_moved_at"), "arrivals", ["moved_at"])
    op.create_index(op.f("ix_arrivals_pass_id"), "arrivals", ["pass_id"])
    op.create_index(
        "uq_arrivals_secret",
        "arrivals",
        ["secret_hash"],
        unique=True,
        postgresql_where=sa.text("secret_hash IS NOT NULL"),
    )
    op.add_column("passes", sa.Column("passcode_hash", sa.LargeBinary()))
    op.add_column("passes", sa.Column("mailed_at", _TIME))
    op.add_column("passes", sa.Column("batch", sa.BigInteger()))
    op.create_index(op.f("ix_passes_batch"), "passes", ["batch"])
    op.create_table(
        "way_messages",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column(
            "arrival_id",
            sa.BigInteger(),
            sa.ForeignKey("arrivals.id", ondelete="CASCADE"),
            nullable=False,
        ),
        sa.Column("at", _TIME, nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.CheckConstraint(
            "who IN ('device', 'person', 'service', 'coordinator')",
            name=op.f("ck_way_messages_who"),
        ),
    )
    op.create_index(op.f("ix_way_messages_arrival_id"), "way_messages", ["arrival_id", "id"])
    op.create_table(
        "sign_in_codes",
        sa.Column(
            "arrival_id",
            sa.BigInteger(),
            sa.ForeignKey("arrivals.id", ondelete="CASCADE"),
            primary_key=True,
            autoincrement=False,
        ),
        sa.Column("code_hash", sa.LargeBinary(), nullable=False),
        # Null: nobody was found by the name, which nobody is told.
        sa.Column("person_id", sa.BigInteger(), sa.ForeignKey("people.id")),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("sent_at", _TIME, nullable=False),
        sa.Column("sent", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("tries", sa.Integer(), nullable=False, server_default="0"),
    )
    op.create_index(op.f("ix_sign_in_codes_person_id"), "sign_in_codes", ["person_id", "sent_at"])
    op.create_table(
        "terms",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("revision", sa.Integer(), nullable=False, server_default="1"),
        sa.Column("document", JSONB(), nullable=False),
        sa.Column(
            "name", sa.Text(), sa.Computed("document ->> 'name'", persisted=True), nullable=False
        ),
    )
    op.create_index("uq_terms_name", "terms", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "pictures",
        sa.Column("digest", sa.Text(), primary_key=True),
        sa.Column("at", _TIME, nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
    )
    op.get_bind().execute(
        sa.text("INSERT INTO rulebooks (id, name, document) VALUES (3, 'welcome', :document)"),
        {"document": json.dumps(_CARD)},
    )
    op.create_table(
        "acceptances",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("at", _TIME, nullable=False),
        sa.Column("terms_name", sa.Text(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("language", sa.Text(), nullable=False),
        sa.Column("person_id", sa.BigInteger()),
        sa.Column("arrival_id", sa.BigInteger()),
    )
    op.create_index(op.f("ix_acceptances_person_id"), "acceptances", ["person_id"])
    op.create_index(op.f("ix_acceptances_arrival_id"), "acceptances", ["arrival_id"])
    op.create_table(
        "mails",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("at", _TIME, nullable=False),
        sa.Column("to_address", sa.Text(), nullable=False),
        sa.Column("to_name", sa.Text()),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("body", sa.Text()),
        # What it is for: code, pass, reminder, test.
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("person_id", sa.BigInteger()),
        sa.Column("pass_id", sa.BigInteger()),
        sa.Column("state", sa.Text(), nullable=False, server_default="waiting"),
        sa.Column("tries", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("next_try_at", _TIME),
        # After this it says what is no longer so, and is not sent.
        sa.Column("useless_at", _TIME),
        sa.Column("sent_at", _TIME),
        sa.Column("last_error", sa.Text()),
        sa.CheckConstraint(
            "state IN ('waiting', 'sent', 'failed', 'dropped')", name=op.f("ck_mails_state")
        ),
    )
    op.create_index(
        "ix_mails_waiting",
        "mails",
        ["next_try_at"],
        postgresql_where=sa.text("state = 'waiting'"),
    )
    op.create_index(op.f("ix_mails_pass_id"), "mails", ["pass_id"])


def downgrade() -> None:
    op.execute("DELETE FROM rulebooks WHERE id = 3")
    for table in ("mails", "pictures", "acceptances", "terms", "sign_in_codes", "way_messages"):
        op.drop_table(table)
    for column in ("batch", "mailed_at", "passcode_hash"):
        op.drop_column("passes", column)
    op.execute("UPDATE arrivals SET outcome = 'refused' WHERE outcome = 'asked'")
    op.drop_index(op.f("ix_arrivals_at"), "arrivals")
    op.drop_index(op.f("ix_arrivals_moved_at"), "arrivals")
    op.drop_index(op.f("ix_arrivals_pass_id"), "arrivals")
    op.drop_constraint(op.f("ck_arrivals_outcome"), "arrivals")
    op.create_check_constraint(op.f("ck_arrivals_outcome"), "arrivals", _OUTCOMES)
    for column in (
        "facts",
        "secret_hash",
        "lapses_at",
        "decided_at",
        "collected_at",
        "asks",
        "proof",
        "answers",
        "shown_credential",
        "protocol",
        "progress",
        "moved_at",
    ):
        op.drop_column("arrivals", column)
