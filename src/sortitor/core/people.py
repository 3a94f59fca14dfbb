"""People and groups from a CSV file: user name, name, mail, department, site, groups."""

from __future__ import annotations

import polars as pl

from sortitor.core.columns import plain
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.manifests import Manifest

COLUMNS = ("user_name", "name", "mail", "department", "site", "groups")
_SYNONYMS = {
    "user_name": ("user name", "username", "user", "login", "account"),
    "name": ("name", "full name", "display name"),
    "mail": ("mail", "email", "e mail", "mail address"),
    "department": ("department", "dept", "unit"),
    "site": ("site", "location", "harbour", "vessel"),
    "groups": ("groups", "group", "member of"),
}
_MEANING = {plain(word): column for column, words in _SYNONYMS.items() for word in words}


def read_people(manifest: Manifest) -> pl.DataFrame:
    """Columns COLUMNS and `row`, one line a person; groups are `;`-separated text.

    Raises BadInput that lists (up to 50) faults by row; a file is taken whole or not at all.
    """
    names = {_MEANING[plain(h)]: h for h in reversed(manifest.headers) if plain(h) in _MEANING}
    if "user_name" not in names:
        raise BadInput(
            "no_user_name_column",
            f"No column holds the user name; the headers are {', '.join(manifest.headers)}.",
            "Call the column “user name”.",
        )
    frame = pl.DataFrame({"row": manifest.numbers}).with_columns(
        (
            manifest.cells[names[c]]
            .str.normalize("NFC")
            .str.replace_all(r"\p{Cc}+", " ")
            .str.strip_chars()
            .replace("", None)
            if c in names
            else pl.lit(None, dtype=pl.String)
        ).alias(c)
        for c in COLUMNS
    )
    lower = pl.col("user_name").str.to_lowercase()
    faults = {
        "user_name_missing": (
            pl.col("user_name").is_null(),
            "user_name",
            "The user name is missing.",
        ),
        "user_name_form": (
            ~pl.col("user_name").str.contains(r"^[^\s;,=@+|][^\s;,|]{0,99}$"),
            "user_name",
            "A user name has up to 100 characters without blanks.",
        ),
        "user_name_twice": (
            lower.is_not_null() & (pl.len().over(lower) > 1),
            "user_name",
            "This user name stands in the file twice.",
        ),
        "mail_form": (
            ~pl.col("mail").str.contains(r"^[^\s@]+@[^\s@]+$"),
            "mail",
            "This is not a mail address.",
        ),
        **{
            f"formula_{c}": (
                pl.col(c).str.contains(r"^([=@]|[+\-].*[(|!])"),
                c,
                "A spreadsheet formula stands where text should be.",
            )
            for c in ("name", "department", "site", "groups")
        },
        **{
            f"long_{c}": (pl.col(c).str.len_chars() > 500, c, "This is longer than 500 characters.")
            for c in COLUMNS
        },
    }
    problems: list[FieldProblem] = []
    for code, (wrong, column, text) in faults.items():
        for row, given in (
            frame.filter(wrong.fill_null(False)).select("row", column).head(50).iter_rows()
        ):
            problems.append(FieldProblem(f"row {row}, {column}", code, f"{text} Given: {given!r}"))
    if problems:
        raise BadInput(
            "bad_people",
            f"{problems[0].pointer}: {problems[0].detail}",
            "Correct the file; nobody was imported.",
            tuple(problems[:50]),
        )
    return frame
