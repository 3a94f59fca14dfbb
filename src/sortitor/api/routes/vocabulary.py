"""Routes: the service's words."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

from sortitor.api.http.access import MayLook
from sortitor.api.http.routes import Router
from sortitor.core.access import GRANTS, WORDS, Permission
from sortitor.core.columns import COLUMNS, IDENTIFIER_COLUMNS
from sortitor.core.gate import REASON_CODES, remedy_for
from sortitor.core.journal import FINAL
from sortitor.core.manifests import ENCODINGS
from sortitor.core.notes import CATALOGUE, NoteKind
from sortitor.core.vocabulary import Role
from sortitor.core.words import COMPARISONS, JOB_BYTES, JOB_ROWS, LABELS, REMEDIES
from sortitor.schemas.vocabulary import (
    NoteWords,
    ReasonWords,
    RoleWords,
    Thresholds,
    Vocabulary,
    Word,
)

router = Router(tags=["vocabulary"])


@router.get("/vocabulary")
def read_vocabulary(ctx: MayLook) -> Vocabulary:
    """Enumerations, comparisons, notes, reasons, roles and thresholds, with their words."""
    return Vocabulary(
        words={_name(kind): _words(labels) for kind, labels in LABELS.items()},
        comparisons=_words(COMPARISONS),
        lot_columns=list(COLUMNS),
        identifier_columns=list(IDENTIFIER_COLUMNS),
        encodings=list(ENCODINGS),
        notes=[_note(code, note) for code, note in CATALOGUE.items()],
        reasons=[ReasonWords(code=code, remedy=remedy_for(code)) for code in REASON_CODES],
        final=FINAL,
        roles=[_role(role) for role in Role],
        permissions=_words({permission.value: WORDS[permission] for permission in Permission}),
        thresholds=Thresholds(job_bytes=JOB_BYTES, job_rows=JOB_ROWS),
        idle_window_days=ctx.limits.idle_window_days,
    )


def _name(kind: type[StrEnum]) -> str:
    """`LotStatus` → `lot_status`."""
    letters = (f"_{letter.lower()}" if letter.isupper() else letter for letter in kind.__name__)
    return "".join(letters).removeprefix("_")


def _words(labels: Mapping[str, str]) -> list[Word]:
    return [Word(value=str(value), label=label) for value, label in labels.items()]


def _note(code: str, note: NoteKind) -> NoteWords:
    remedy, label = REMEDIES.get(code, (None, None))
    return NoteWords(
        code=code,
        severity=note.severity,
        title=note.title,
        remedy=note.remedy,
        resolved_by=remedy,
        resolve_label=label,
    )


def _role(role: Role) -> RoleWords:
    granted = [permission.value for permission in Permission if permission in GRANTS[role]]
    return RoleWords(role=role.value, label=LABELS[Role][role], permissions=granted)
