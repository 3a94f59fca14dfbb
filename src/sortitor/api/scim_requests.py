"""What identity providers truly send, brought to what RFC 7643 and RFC 7644 say: one unknown
attribute, or one word in the wrong form, does not refuse a whole user.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from scim2_models import Attribute, SCIMException

from sortitor.schemas.scim import PROVIDER

_CORE = "urn:ietf:params:scim:schemas:core:2.0:"
_ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
_COMMON = ("schemas", "id", "externalid", "meta")
#: `attribute[sub eq "value"].sub`, each part but the first one optional.
_PATH = re.compile(
    r"(?:(?P<urn>urn:[\w.:-]+):)?(?P<name>[$\w-]+)"
    r"(?:\[\s*(?P<key>\w+)\s+eq\s+(?P<wanted>\"(?:[^\"\\]|\\.)*\"|\w+)\s*\])?(?:\.(?P<sub>[$\w-]+))?",
    re.IGNORECASE,
)
_TRUTHS = {"true": True, "false": False}

Operation = dict[str, Any]


class Unusable(SCIMException):
    """A request that cannot be understood however kindly it is read."""

    scim_type = "invalidValue"


def _attributes(schema_id: str) -> dict[str, Attribute]:
    schema = next(one for one in PROVIDER.schemas if str(one.id) == schema_id)
    return {str(one.name).lower(): one for one in schema.attributes or []}


_KNOWN = {kind: _attributes(_CORE + kind) for kind in ("User", "Group")}
_EXTENSION = _attributes(_ENTERPRISE)
_NAMES = {"User": "userName", "Group": "displayName"}


def tidied(kind: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """A user or group without attributes and extensions that nobody knows. Raises Unusable for a
    blank name.
    """
    found: dict[str, Any] = {}
    for name, value in given.items():
        lower = name.lower()
        if lower == "schemas" and isinstance(value, list):
            found[name] = [one for one in value if str(one) in (_CORE + kind, _ENTERPRISE)]
        elif lower in _COMMON:
            found[name] = value
        elif kind == "User" and lower == _ENTERPRISE.lower():
            found[_ENTERPRISE] = _of_extension(value)
        elif lower in _KNOWN[kind]:
            found[name] = _value(_KNOWN[kind][lower], value)
    _refuse_blank(kind, found)
    return found


def _of_extension(value: Any) -> Any:
    if not isinstance(value, dict):
        return value
    return {
        name: _value(_EXTENSION[name.lower()], one)
        for name, one in value.items()
        if name.lower() in _EXTENSION
    }


def _value(attribute: Attribute, value: Any) -> Any:
    """A value in the form that its attribute has: a lone one in a list, a bare text in an object, a
    truth that came as text.
    """
    if value is None:
        return None
    if str(attribute.type) == "boolean" and isinstance(value, str):
        return _TRUTHS.get(value.strip().lower(), value)
    if str(attribute.type) == "complex":
        several = value if isinstance(value, list) else [value]
        parts = [_complex(attribute, one) for one in several]
        return parts if attribute.multi_valued else parts[0] if parts else None
    if attribute.multi_valued and not isinstance(value, list):
        return [value]
    return value


def _complex(attribute: Attribute, value: Any) -> Any:
    known = {str(one.name).lower(): one for one in attribute.sub_attributes or []}
    if isinstance(value, str | int | float) and not isinstance(value, bool) and "value" in known:
        return {"value": str(value)}
    if not isinstance(value, dict):
        return value
    return {
        name: _value(known[name.lower()], one)
        for name, one in value.items()
        if name.lower() in known
    }


def _refuse_blank(kind: str, found: Mapping[str, Any]) -> None:
    wanted = _NAMES[kind]
    for name, value in found.items():
        if name.lower() == wanted.lower() and isinstance(value, str) and not value.strip():
            raise Unusable(detail=f"{wanted} is blank. Give a name.")


# ---- PATCH


def operations_of(given: Mapping[str, Any]) -> list[Operation]:
    """The operations of a PATCH, one for each attribute that is named."""
    listed = next((value for name, value in given.items() if name.lower() == "operations"), None)
    if not isinstance(listed, list) or not all(isinstance(one, dict) for one in listed):
        raise Unusable(detail="A PATCH has a list of Operations, each an object.")
    found: list[Operation] = []
    for one in listed:
        parts = {name.lower(): value for name, value in one.items()}
        act = str(parts.get("op", "")).lower()
        if act not in ("add", "remove", "replace"):
            raise Unusable(detail="An operation is add, remove or replace.")
        path, value = parts.get("path"), parts.get("value")
        if path is None and isinstance(value, dict) and act != "remove":
            found += ({"op": act, "path": name, "value": each} for name, each in _named(value))
        elif path is None:
            raise Unusable(detail=f"The operation {act} needs a path, or an object as its value.")
        else:
            found.append({"op": act, "path": str(path), "value": value})
    return found


def _named(value: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Each attribute of a value, those of an extension by their full name."""
    for name, each in value.items():
        if name.lower().startswith("urn:") and isinstance(each, dict):
            yield from ((f"{name}:{inner}", one) for inner, one in each.items())
        else:
            yield name, each


@dataclass(frozen=True, slots=True)
class Members:
    """What a PATCH does to a group's members: id → whether it is in it afterwards."""

    wanted: dict[str, bool]


def members_alone(operations: list[Operation]) -> Members | None:
    """What happens to the members, where nothing else is changed and they are named one by one."""
    wanted: dict[str, bool] = {}
    for one in operations:
        found = _PATH.fullmatch(one["path"])
        if found is None or found["urn"] or found["name"].lower() != "members" or found["sub"]:
            return None
        act, value = one["op"], one["value"]
        if found["key"]:
            if act != "remove" or found["key"].lower() != "value":
                return None
            wanted[_bare(found["wanted"])] = False
        elif act in ("add", "remove") and value:
            wanted |= dict.fromkeys(_ids(value), act == "add")
        else:
            return None
    return Members(wanted) if operations else None


def _ids(value: Any) -> Iterator[str]:
    for one in value if isinstance(value, list) else [value]:
        named = one.get("value") if isinstance(one, dict) else one
        if not isinstance(named, str) or not named:
            raise Unusable(detail="A member is an object with the id of a user or group as value.")
        yield named


def _bare(wanted: str) -> str:
    return re.sub(r"\\(.)", r"\1", wanted[1:-1]) if wanted.startswith('"') else wanted


def ready(kind: str, operations: list[Operation], document: Mapping[str, Any]) -> list[Operation]:
    """The operations as the standard has them, for a resource that is as `document` says."""
    found: list[Operation] = []
    for one in operations:
        if one["op"] == "add" and one["value"] is None:
            # Nothing is added; taking away is another word.
            continue
        path = _PATH.fullmatch(one["path"])
        if kind == "User" and one["path"].lower() == _ENTERPRISE.lower():
            value = _of_extension(one["value"])
            found.append(_bare_operation(one["op"], _ENTERPRISE, value))
            continue
        if path is None:
            # The library says what is wrong with it.
            found.append(_bare_operation(one["op"], one["path"], one["value"]))
            continue
        attribute = _known(kind, path)
        if attribute is not None:
            found += _ready(one, path, attribute, document)
    for one in found:
        name = str(one["path"]).lower()
        if name == _NAMES[kind].lower() and one["op"] != "remove":
            _refuse_blank(kind, {name: one.get("value")})
    return found


def _known(kind: str, path: re.Match[str]) -> Attribute | None:
    """The attribute of a path; None where nobody knows it."""
    urn, name = (path["urn"] or "").lower(), path["name"].lower()
    if urn == _ENTERPRISE.lower():
        return _EXTENSION.get(name) if kind == "User" else None
    if urn and urn != (_CORE + kind).lower():
        return None
    attribute = _KNOWN[kind].get(name)
    if attribute is None:
        # The library says which of these cannot be changed.
        return Attribute(name=name, type="string") if name in _COMMON else None
    subs = {str(one.name).lower() for one in attribute.sub_attributes or []}
    if path["sub"] and path["sub"].lower() not in subs:
        return None
    return attribute


def _bare_operation(act: str, path: str, value: Any) -> Operation:
    if act == "remove" or value is None:
        return {"op": "remove", "path": path}
    return {"op": act, "path": path, "value": value}


def _ready(
    one: Operation, path: re.Match[str], attribute: Attribute, document: Mapping[str, Any]
) -> Iterator[Operation]:
    act, value = one["op"], one["value"]
    name = f"{path['urn']}:{path['name']}" if path["urn"] else path["name"]
    if act == "remove" and value and not path["key"] and attribute.multi_valued:
        # Some name what is to go in the value rather than in the path.
        yield from (
            {"op": "remove", "path": f'{name}[value eq "{_escaped(member)}"]'}
            for member in _ids(value)
        )
        return
    if path["key"] and act != "remove":
        yield _at_a_filter(one, path, attribute, document, name)
        return
    if value is not None and act != "remove":
        sub = path["sub"]
        if sub:
            subs = {str(each.name).lower(): each for each in attribute.sub_attributes or []}
            value = _value(subs[sub.lower()], value)
        else:
            value = _value(attribute, value)
    yield _bare_operation(act, one["path"], value)


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _at_a_filter(
    one: Operation,
    path: re.Match[str],
    attribute: Attribute,
    document: Mapping[str, Any],
    name: str,
) -> Operation:
    """`emails[type eq "work"].value` where there is no address at work yet makes one."""
    key, wanted, sub = path["key"], _bare(path["wanted"]), path["sub"]
    there = next(
        (value for known, value in document.items() if known.lower() == path["name"].lower()), None
    )
    fitting = [each for each in there or [] if str(each.get(key, "")).lower() == wanted.lower()]
    if fitting:
        value = one["value"]
        if sub is None and isinstance(value, dict):
            value = _complex(attribute, value)
        return _bare_operation(one["op"], one["path"], value)
    made = {sub: one["value"]} if sub else one["value"]
    if not isinstance(made, dict):
        raise Unusable(detail=f"The value at {name}[…] must be an object.")
    typed: Any = _TRUTHS.get(wanted.lower(), wanted)
    return {
        "op": "add",
        "path": name,
        "value": [_complex(attribute, {key: typed, **made})],
    }
