"""Files as suppliers and offices make them: 150 and more, each with exact verdicts and notes."""

from __future__ import annotations

import pytest
from tests.corpus import books, columns, texts, words
from tests.corpus.cases import Case
from tests.workbooks import TODAY

from sortitor.core import lots
from sortitor.core.errors import BadInput
from sortitor.core.manifests import read_table

ROOMS = {
    "words": words.CASES,
    "columns": columns.CASES,
    "texts": texts.CASES,
    "books": books.CASES,
}
CASES: dict[str, Case] = {
    f"{room}: {name}": case for room, cases in ROOMS.items() for name, case in cases.items()
}


def test_the_corpus_is_large_enough() -> None:
    assert len(CASES) + len(texts.REFUSED) >= 150


@pytest.mark.parametrize("name", CASES)
def test_a_file_is_read_as_a_careful_person_reads_it(name: str) -> None:
    case = CASES[name]
    manifest = read_table(case.bytes, case.reading)
    meaning, of_columns = lots.meaning_of(manifest)
    manner = lots.Manner(makers=case.known_makers)
    prepared = lots.prepare(manifest, meaning, {}, TODAY, manner)
    decided = lots.decide(prepared, lots.nothing_known())
    told = (decided.notes, [*manifest.remarks, *of_columns, *prepared.remarks], meaning)
    assert decided.rows["verdict"].to_list() == list(case.verdicts), told
    assert set(decided.notes["code"]) == case.notes, told
    assert case.remarks <= {remark.code for remark in told[1]}, told
    if case.keys is not None:
        assert set(prepared.keys["value"]) == case.keys, told
    for field, values in case.values.items():
        assert prepared.rows[field].to_list() == values, told


@pytest.mark.parametrize("name", texts.REFUSED)
def test_a_refusal_says_the_true_trouble(name: str) -> None:
    content, words_of_it = texts.REFUSED[name]
    with pytest.raises(BadInput) as caught:
        read_table(content)
    assert words_of_it in caught.value.detail
    assert caught.value.remedy
