"""Filters and orders of SCIM (RFC 7644 §3.4.2) as SQL on people and groups: the same meaning as the
library's own evaluation, held to it by a property test.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import Enum
from typing import Any

from scim2_models import Extension, ScimFilter
from scim2_models.path import (
    AttributeBinding,
    CompareOperator,
    Comparison,
    FilterVisitor,
    LogicalExpr,
    LogicalOperator,
    Not,
    Present,
    ValuePath,
    coerce_value,
)
from sqlalchemy import (
    ColumnElement,
    DateTime,
    FromClause,
    Select,
    Table,
    Text,
    and_,
    case,
    cast,
    exists,
    false,
    func,
    literal,
    literal_column,
    not_,
    null,
    or_,
    select,
    true,
    union_all,
)
from sqlalchemy.dialects.postgresql import JSONB, JSONPATH, array

from sortitor.core.numerals import number_in
from sortitor.core.provisioning import ENTERPRISE
from sortitor.store.tables import group_groups, group_people, groups, memberships, people

Json = ColumnElement[Any]
#: What is not there, with its type.
_NOTHING: Json = cast(null(), JSONB)
#: Reads what a path of names leads to.
Reader = Callable[[Sequence[str]], Json]
#: Attributes that are looked up by equality all the time, with the column that has an index for it.
_LOOKED_UP = {
    ("User", "user_name"): func.lower(people.c.user_name),
    ("User", "external_id"): people.c.pushed["externalId"].astext,
    ("Group", "display_name"): func.lower(groups.c.name),
    ("Group", "external_id"): groups.c.external_id,
}
#: Numbers that are, with the letters that they are shown behind (`u7`).
_NUMBERED: dict[tuple[str, ...], dict[str, Callable[[int], ColumnElement[bool]]]] = {
    ("User", "id"): {"u": lambda number: people.c.id == number},
    ("Group", "id"): {"g": lambda number: groups.c.id == number},
    ("User", "groups", "value"): {
        "g": lambda number: people.c.id.in_(
            select(memberships.c.person_id).where(memberships.c.group_id == number)
        )
    },
    ("Group", "members", "value"): {
        "u": lambda number: groups.c.id.in_(
            select(group_people.c.group_id).where(group_people.c.person_id == number)
        ),
        "g": lambda number: groups.c.id.in_(
            select(group_groups.c.group_id).where(group_groups.c.inner_id == number)
        ),
    },
}


def _object(**values: Any) -> Json:
    pairs = [
        literal(name, Text) if even else value
        for name, value in values.items()
        for even in (True, False)
    ]
    return func.jsonb_strip_nulls(func.jsonb_build_object(*pairs), type_=JSONB)


@dataclass(frozen=True, slots=True)
class _Several:
    """The values of an attribute that has several: those of one resource, or, where `owner` is its
    number, those of all resources, each with the number that it is `of`.
    """

    rows: FromClause
    read: Reader
    owner: ColumnElement[int] | None = None

    def any(self, *where: ColumnElement[bool]) -> ColumnElement[bool]:
        """Whether the resource has a value of which this is true."""
        if self.owner is None:
            return exists(select(1).select_from(self.rows).where(*where))
        # All are asked once, not each resource for itself.
        return self.owner.in_(select(self.rows.c.of).where(*where))

    def of_one(self, *columns: ColumnElement[Any]) -> Select[Any]:
        """What is read of each value of the resource."""
        query = select(*columns).select_from(self.rows)
        if self.owner is None:
            return query
        return query.where(self.rows.c.of == self.owner).correlate(self.owner.table)


class _Resources:
    """Users or groups as the documents that they are shown as; `base` is where the service is
    reached.
    """

    kind: str
    table: Table

    def __init__(self, base: str) -> None:
        self.base = base

    def _meta(self) -> dict[str, Json]:
        table, letter = self.table, self.kind[0].lower()
        return {
            "resourceType": literal(self.kind, Text),
            "created": table.c.created_at,
            "lastModified": table.c.changed_at,
            "version": func.concat('W/"', table.c.revision, '"'),
            "location": self._place(letter, table.c.id),
        }

    def _place(self, letter: str, number: Any) -> Json:
        return func.concat(
            literal(self.base + ("/Users/u" if letter == "u" else "/Groups/g"), Text), number
        )

    def head(self, name: str) -> Json:
        """A top attribute as JSON."""
        raise NotImplementedError

    def several(self, names: Sequence[str]) -> _Several:
        """The values of an attribute that has several."""
        return _elements(self.read(names))

    def read(self, names: Sequence[str]) -> Json:
        """What a path of names leads to."""
        if names[0] == "meta":
            return (
                func.to_jsonb(self._meta()[names[1]], type_=JSONB)
                if names[1:]
                else _object(**self._meta())
            )
        return _into(self.head(names[0]), names[1:])


def _into(value: Json, names: Sequence[str]) -> Json:
    return (
        value.op("#>", return_type=JSONB())(array([literal(name, Text) for name in names]))
        if names
        else value
    )


def _elements(value: Json) -> _Several:
    listed = case((func.jsonb_typeof(value) == "array", value), else_=func.jsonb_build_array())
    item = func.jsonb_array_elements(listed, type_=JSONB).table_valued(
        "value", joins_implicitly=True
    )
    return _Several(item, lambda names: _into(cast(item.c.value, JSONB), names))


class _Users(_Resources):
    kind, table = "User", people
    #: What a file said of a person, as `core.provisioning.user_of` shows it.
    _said: dict[str, Json] = {
        "userName": func.to_jsonb(people.c.user_name),
        "displayName": func.to_jsonb(people.c.name),
        "emails": case(
            (
                people.c.mail != "",
                func.jsonb_build_array(_object(value=people.c.mail, primary=true())),
            )
        ),
        "addresses": case(
            (
                people.c.site != "",
                func.jsonb_build_array(_object(type=literal("work", Text), locality=people.c.site)),
            )
        ),
        ENTERPRISE: case((people.c.department != "", _object(department=people.c.department))),
    }

    def head(self, name: str) -> Json:
        if name == "id":
            return func.to_jsonb(func.concat("u", people.c.id), type_=JSONB)
        if name == "active":
            return func.to_jsonb(people.c.left_at.is_(None), type_=JSONB)
        if name == "groups":
            return _gathered(self._groups())
        pushed = people.c.pushed.op("->", return_type=JSONB())(literal(name, Text))
        if name == "schemas":
            key = func.jsonb_object_keys(people.c.pushed).column_valued("key")
            extensions = (
                select(func.jsonb_agg(key)).where(func.starts_with(key, "urn:")).scalar_subquery()
            )
            extended = case(
                (people.c.pushed.is_not(None), extensions),
                (people.c.department != "", func.jsonb_build_array(ENTERPRISE)),
            )
            own = func.jsonb_build_array("urn:ietf:params:scim:schemas:core:2.0:User")
            return own.op("||", return_type=JSONB())(
                func.coalesce(extended, func.jsonb_build_array())
            )
        return case((people.c.pushed.is_not(None), pushed), else_=self._said.get(name, _NOTHING))

    def _groups(self) -> _Several:
        columns = (
            memberships.c.person_id.label("of"),
            func.concat("g", groups.c.id).label("value"),
            groups.c.name.label("display"),
            self._place("g", groups.c.id).label("$ref"),
        )
        inside = select(*columns).join(memberships, memberships.c.group_id == groups.c.id)
        return _columns(inside.subquery("inside"), people.c.id)

    def several(self, names: Sequence[str]) -> _Several:
        return self._groups() if list(names) == ["groups"] else super().several(names)


def _gathered(several: _Several) -> Json:
    """Rows as an array of objects."""
    told = {name: column for name, column in several.rows.c.items() if name != "of"}
    return several.of_one(func.jsonb_agg(_object(**told))).scalar_subquery()


def _columns(rows: FromClause, owner: ColumnElement[int]) -> _Several:
    """Rows as they are, not made into JSON first: there may be thousands."""

    def read(names: Sequence[str]) -> Json:
        return func.to_jsonb(rows.c[names[0]], type_=JSONB) if names[0] in rows.c else _NOTHING

    return _Several(rows, read, owner)


class _Groups(_Resources):
    kind, table = "Group", groups

    def head(self, name: str) -> Json:
        if name == "schemas":
            return func.jsonb_build_array("urn:ietf:params:scim:schemas:core:2.0:Group")
        if name == "members":
            return _gathered(self._members())
        return {
            "id": func.to_jsonb(func.concat("g", groups.c.id), type_=JSONB),
            "displayName": func.to_jsonb(groups.c.name, type_=JSONB),
            "externalId": func.to_jsonb(groups.c.external_id, type_=JSONB),
        }.get(name, _NOTHING)

    def _members(self) -> _Several:
        def of(
            letter: str, kind: str, table: Any, number: Any, name: Any, group_id: Any
        ) -> Select[Any]:
            columns = (
                group_id.label("of"),
                func.concat(letter, number).label("value"),
                name.label("display"),
                literal(kind, Text).label("type"),
                self._place(letter, number).label("$ref"),
            )
            return select(*columns).select_from(table)

        inner = groups.alias("inner")
        rows = union_all(
            of(
                "u",
                "User",
                group_people.join(people, people.c.id == group_people.c.person_id),
                people.c.id,
                people.c.name,
                group_people.c.group_id,
            ),
            of(
                "g",
                "Group",
                group_groups.join(inner, inner.c.id == group_groups.c.inner_id),
                inner.c.id,
                inner.c.name,
                group_groups.c.group_id,
            ),
        )
        return _columns(rows.subquery("member"), groups.c.id)

    def several(self, names: Sequence[str]) -> _Several:
        return self._members() if list(names) == ["members"] else super().several(names)


_KINDS = {"User": _Users, "Group": _Groups}


class _Condition(FilterVisitor[ColumnElement[bool]]):
    """A filter, bound to the model of what `resources` or `reader` reads, as a condition that is
    true or false, never null.
    """

    def __init__(
        self,
        bound: ScimFilter[Any],
        kind: str | None,
        reader: Reader,
        several: Callable[[Sequence[str]], _Several],
    ) -> None:
        self.bound, self.kind, self.reader, self.several = bound, kind, reader, several

    def visit_not(self, node: Not) -> ColumnElement[bool]:
        return not_(self.visit(node.expr))

    def visit_logical_expr(self, node: LogicalExpr) -> ColumnElement[bool]:
        return (and_ if node.op == LogicalOperator.and_ else or_)(*map(self.visit, node.terms))

    def visit_comparison(self, node: Comparison) -> ColumnElement[bool]:
        found = self.bound.resolve_comparison(node.attr_path, strict=False)
        if found is None:
            return false()
        expected = coerce_value(found, node.value, node.op)
        looked_up = _LOOKED_UP.get((self.kind or "", found.field_name))
        if looked_up is not None and node.op == CompareOperator.eq and isinstance(expected, str):
            return (
                func.coalesce(looked_up == found.comparable(expected), false())
                if found.case_exact
                else looked_up.in_({expected.lower(), found.comparable(expected)})
            )
        numbered = _numbered(self.kind, node.op, expected, found)
        if numbered is not None:
            return numbered
        names = _names(found)
        if not found.is_multivalued:
            return _compared(_text(self.reader(names)), node.op, expected, found)
        several = self.several(names[:-1] if found.sub_field_name else names)
        value = _text(several.read(names[-1:] if found.sub_field_name else ()))
        compared = _compared(value, node.op, expected, found)
        if node.op == CompareOperator.ne:
            # Of several, none may be equal.
            return not_(several.any(not_(compared)))
        fits = several.any(compared)
        return (
            or_(fits, not_(several.any()))
            if expected is None and node.op == CompareOperator.eq
            else fits
        )

    def visit_present(self, node: Present) -> ColumnElement[bool]:
        found = self.bound.resolve(node.attr_path, strict=False)
        if found is None:
            return false()
        names = _names(found)
        if found.is_multivalued and found.sub_field_name:
            several = self.several(names[:-1])
            return several.any(_present(several.read(names[-1:])))
        return _present(self.reader(names))

    def visit_value_path(self, node: ValuePath) -> ColumnElement[bool]:
        found = self.bound.resolve(node.attr_path, strict=False)
        if found is None or found.field_type is None:
            return false()
        several = self.several(_names(found))
        inner = _Condition(
            ScimFilter[found.field_type](node.val_filter),  # type: ignore[name-defined]
            None,
            several.read,
            lambda names: _elements(several.read(names)),
        )
        return several.any(inner.visit(node.val_filter))


def _numbered(
    kind: str | None, operator: CompareOperator, expected: Any, found: AttributeBinding
) -> ColumnElement[bool] | None:
    """The comparison as one of numbers, which have indexes; nothing where it is none."""
    place = (kind or "", found.field_name, found.sub_field_name)
    by_letter = _NUMBERED.get(tuple(part for part in place if part is not None))
    if by_letter is None or operator != CompareOperator.eq or not isinstance(expected, str):
        return None
    given = str(found.comparable(expected))
    letter, number = given[:1], number_in(given[1:])
    known = number is not None and given == f"{letter}{number}" and letter in by_letter
    return by_letter[letter](number) if known and number is not None else false()


def _names(found: AttributeBinding) -> list[str]:
    """Where the attribute stands in the document."""
    model = found.model
    names = [str(model.__schema__)] if issubclass(model, Extension) else []
    names.append(_spelt(model, found.field_name))
    return (
        [*names, _spelt(found.field_type, found.sub_field_name)] if found.sub_field_name else names
    )


def _spelt(model: Any, field_name: str) -> str:
    return str(model.model_fields[field_name].serialization_alias or field_name)


def _text(value: Json) -> ColumnElement[str]:
    return value.op("#>>", return_type=Text())(literal_column("'{}'"))


def _present(value: Json) -> ColumnElement[bool]:
    return func.coalesce(func.jsonb_path_exists(value, cast(_ANYTHING, JSONPATH)), false())


#: False and 0 are something, an empty text is nothing.
_ANYTHING = (
    '$.** ? (@.type() == "boolean" || @.type() == "number" || (@.type() == "string" && @ != ""))'
)


def _compared(
    text: ColumnElement[str], operator: CompareOperator, expected: Any, found: AttributeBinding
) -> ColumnElement[bool]:
    """One value against one, as RFC 7644 §3.4.2.2 has it: texts by code point, without case unless
    the attribute is exact.
    """
    if expected is None:
        return {CompareOperator.eq: text.is_(None), CompareOperator.ne: text.is_not(None)}.get(
            operator, false()
        )
    if operator == CompareOperator.ne:
        return not_(_compared(text, CompareOperator.eq, expected, found))
    left, right = _comparable(text, found), _operand(expected, found)
    return func.coalesce(_BY[operator](left, right), false())


_BY: dict[CompareOperator, Callable[[Any, Any], ColumnElement[bool]]] = {
    CompareOperator.eq: lambda a, b: a == b,
    CompareOperator.gt: lambda a, b: a > b,
    CompareOperator.ge: lambda a, b: a >= b,
    CompareOperator.lt: lambda a, b: a < b,
    CompareOperator.le: lambda a, b: a <= b,
    CompareOperator.co: lambda a, b: func.strpos(a, b) > 0,
    CompareOperator.sw: func.starts_with,
    CompareOperator.ew: lambda a, b: func.right(a, func.char_length(b)) == b,
}


def _comparable(text: ColumnElement[str], found: AttributeBinding) -> ColumnElement[Any]:
    if found.target_type is datetime:
        return cast(text, DateTime(timezone=True))
    if found.target_type in (bool, bytes):
        return text
    return (func.normalize(text) if found.case_exact else func.lower(func.normalize(text))).collate(
        "C"
    )


def _operand(expected: Any, found: AttributeBinding) -> ColumnElement[Any]:
    if isinstance(expected, datetime):
        return literal(expected, DateTime(timezone=True))
    if isinstance(expected, bool):
        return literal("true" if expected else "false", Text)
    if isinstance(expected, bytes):
        return literal(base64.b64encode(expected).decode(), Text)
    return literal(
        str(found.comparable(expected.value if isinstance(expected, Enum) else str(expected))), Text
    )


def condition(kind: str, bound: ScimFilter[Any], base: str) -> ColumnElement[bool]:
    """A filter bound to users (`kind` is User) or groups (Group), as a condition on `people` or
    `groups`.
    """
    resources = _KINDS[kind](base)
    return _Condition(bound, kind, resources.read, resources.several).visit(bound.ast)


def order(kind: str, found: AttributeBinding, base: str) -> ColumnElement[Any]:
    """What resources are sorted by (RFC 7644 §3.4.2.3): of several values the primary one, else the
    first; nothing is greatest.
    """
    resources = _KINDS[kind](base)
    names = _names(found)
    if not found.is_multivalued:
        return _comparable(_text(resources.read(names)), found)
    several = resources.several(names[:-1] if found.sub_field_name else names)
    value = _comparable(_text(several.read(names[-1:] if found.sub_field_name else ())), found)
    primary = (
        func.coalesce(_text(several.read(("primary",))) == "true", false())
        if "primary" in getattr(found.field_type, "model_fields", {})
        else false()
    )
    place = func.row_number().over()
    ranked = several.of_one(
        value.label("value"), primary.label("primary"), place.label("place")
    ).subquery()
    return (
        select(ranked.c.value)
        .order_by(ranked.c.primary.desc(), ranked.c.place)
        .limit(1)
        .scalar_subquery()
    )
