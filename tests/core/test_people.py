"""People from a file: whole or not at all."""

import polars as pl
import pytest

from sortitor.core.errors import BadInput
from sortitor.core.manifests import read_table
from sortitor.core.people import read_people


def read(content: bytes) -> pl.DataFrame:
    return read_people(read_table(content))


HEAD = "user name,name,mail,department,site,groups\n"


def test_a_clean_file() -> None:
    frame = read(
        (
            HEAD + "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew;Officers\nodo,,,,,\n"
        ).encode()
    )
    assert frame.select("row", "user_name", "name", "groups").rows() == [
        (2, "maud", "Maud Fenwick", "Crew;Officers"),
        (3, "odo", None, None),
    ]


@pytest.mark.parametrize(
    "content",
    [
        b"User,Full Name\nmaud,Maud\n",
        "login;Display Name\nmaud;Мод\n".encode(),
        b"\xef\xbb\xbfusername\nmaud\n",
    ],
)
def test_headers_by_meaning(content: bytes) -> None:
    assert read(content)["user_name"].to_list() == ["maud"]


@pytest.mark.parametrize(
    ("line", "place"),
    [
        (",No Name,,,,", "row 2, user_name"),
        ("two words,x,,,,", "row 2, user_name"),
        ("maud,=1+1,,,,", "row 2, name"),
        ("maud,x,not a mail,,,", "row 2, mail"),
        ("maud,x,,@SUM(A1),,", "row 2, department"),
        ("maud,x,,,,=x", "row 2, groups"),
        ("maud," + "x" * 501 + ",,,,", "row 2, name"),
        ("@maud,x,,,,", "row 2, user_name"),
    ],
)
def test_each_fault_is_told_with_its_place(line: str, place: str) -> None:
    with pytest.raises(BadInput) as caught:
        read((HEAD + line + "\n").encode())
    assert caught.value.problems[0].pointer == place
    assert "nobody was imported" in caught.value.remedy


def test_a_name_that_stands_twice_whatever_its_case() -> None:
    with pytest.raises(BadInput) as caught:
        read((HEAD + "maud,a,,,,\nMAUD,b,,,,\n").encode())
    assert {p.pointer for p in caught.value.problems} == {"row 2, user_name", "row 3, user_name"}


def test_a_file_without_user_names() -> None:
    with pytest.raises(BadInput, match="colour"):
        read(b"colour,weight\nred,3\n")
