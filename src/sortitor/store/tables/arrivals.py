"""Passes and arrivals."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    Column,
    Computed,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    Table,
    Text,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

from sortitor.core import vocabulary
from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
    words,
)

passes = Table(
    "passes",
    metadata,
    number_column(),
    Column("code_hash", Text, nullable=False, unique=True),
    # The terms as they were written down; beside them what SQL counts and compares.
    Column("document", JSONB, nullable=False),
    Column("label", Text, Computed("document ->> 'label'", persisted=True), nullable=False),
    Column("person_id", ForeignKey("people.id")),
    Column("valid_from", Time, nullable=False),
    Column("valid_until", Time, nullable=False),
    Column("max_uses", Integer),
    Column("uses", Integer, nullable=False, server_default="0"),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("revoked_at", Time),
    Column("passcode_hash", LargeBinary),
    Column("mailed_at", Time),
    # Those that were made in one action have the number of the first.
    Column("batch", BigInteger, index=True),
    CheckConstraint("max_uses IS NULL OR uses <= max_uses", name="uses"),
)

arrivals = Table(
    "arrivals",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("outcome", Text, nullable=False),
    Column("device_id", BigInteger),
    Column("person_id", BigInteger),
    Column("pass_id", BigInteger),
    Column("stated", JSONB, nullable=False),
    Column("reasons", JSONB, nullable=False),
    Column("trace", JSONB, nullable=False),
    # That of a device in use which did not show its credential: a coordinator decides.
    Column("claim", Text),
    # What the gate knew when it decided; null for those of before it was kept.
    Column("facts", JSONB),
    # With which the device or its person's page answers what was asked.
    Column("secret_hash", LargeBinary),
    Column("lapses_at", Time),
    Column("decided_at", Time),
    Column("collected_at", Time),
    Column("asks", ARRAY(Text), nullable=False, server_default="{}"),
    Column("proof", Text, nullable=False, server_default="none"),
    Column("answers", JSONB, nullable=False, server_default="{}"),
    Column("shown_credential", LargeBinary),
    Column("protocol", Integer, nullable=False, server_default="1"),
    # What the device told of its setting up.
    Column("progress", JSONB),
    # When it last went on, so that one that stands is seen.
    Column("moved_at", Time, nullable=False),
    words("proof", vocabulary.Proof),
    words("outcome", vocabulary.Outcome),
    words("claim", vocabulary.Claim),
    Index(None, "outcome", "id"),
    Index(None, "device_id"),
    Index(None, "at"),
    Index(None, "moved_at"),
    Index(None, "pass_id"),
    Index("ix_arrivals_imeis", text("(stated -> 'imeis')"), postgresql_using="gin"),
)

Index(
    "uq_arrivals_secret",
    arrivals.c.secret_hash,
    unique=True,
    postgresql_where=arrivals.c.secret_hash.is_not(None),
)

Index("ix_arrivals_serial", func.upper(arrivals.c.stated["serial"].astext))
Index("ix_arrivals_named", func.lower(arrivals.c.stated["person"].astext))
Index("ix_arrivals_person_id", arrivals.c.person_id)

Index(
    "ix_arrivals_until",
    arrivals.c.progress["until"].astext,
    postgresql_where=arrivals.c.progress["finished"].astext == "false",
)

Index("ix_arrivals_claim", arrivals.c.device_id, postgresql_where=arrivals.c.claim == "open")

#: Every message that went to and fro on the way in.
way_messages = Table(
    "way_messages",
    metadata,
    number_column(),
    Column("arrival_id", ForeignKey("arrivals.id", ondelete="CASCADE"), nullable=False),
    Column("at", Time, nullable=False),
    Column("who", Text, nullable=False),
    Column("what", Text, nullable=False),
    words("who", vocabulary.Speaker),
    Index("ix_way_messages_arrival_id", "arrival_id", "id"),
)

sign_in_codes = Table(
    "sign_in_codes",
    metadata,
    Column(
        "arrival_id",
        ForeignKey("arrivals.id", ondelete="CASCADE"),
        primary_key=True,
        autoincrement=False,
    ),
    Column("code_hash", LargeBinary, nullable=False),
    # Null: nobody was found by the name, which nobody is told.
    Column("person_id", ForeignKey("people.id")),
    Column("address", Text, nullable=False),
    Column("sent_at", Time, nullable=False),
    Column("sent", Integer, nullable=False, server_default="1"),
    Column("tries", Integer, nullable=False, server_default="0"),
    Index("ix_sign_in_codes_person_id", "person_id", "sent_at"),
)

acceptances = Table(
    "acceptances",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("terms_name", Text, nullable=False),
    Column("revision", Integer, nullable=False),
    Column("language", Text, nullable=False),
    Column("person_id", BigInteger, index=True),
    Column("arrival_id", BigInteger, index=True),
    Index(None, "terms_name", "id"),
)

#: Mails that leave with the change that asks for them: sent by the worker once it is committed.
mails = Table(
    "mails",
    metadata,
    number_column(),
    Column("at", Time, nullable=False),
    Column("to_address", Text, nullable=False),
    Column("to_name", Text),
    Column("subject", Text, nullable=False),
    # Gone once it is sent, where it holds a secret.
    Column("body", Text),
    Column("kind", Text, nullable=False),
    Column("person_id", BigInteger),
    Column("pass_id", BigInteger, index=True),
    Column("state", Text, nullable=False, server_default="waiting"),
    Column("tries", Integer, nullable=False, server_default="0"),
    Column("next_try_at", Time),
    # After this it says what is no longer so, and is not sent.
    Column("useless_at", Time),
    Column("sent_at", Time),
    Column("last_error", Text),
    words("state", vocabulary.MailState),
)

Index("ix_mails_waiting", mails.c.next_try_at, postgresql_where=mails.c.state == "waiting")

#: Pictures of the welcome card, by the SHA-256 of their bytes.
pictures = Table(
    "pictures",
    metadata,
    Column("digest", Text, primary_key=True),
    Column("at", Time, nullable=False),
    Column("content", LargeBinary, nullable=False),
)
