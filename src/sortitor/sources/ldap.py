"""Directories by LDAP (RFC 4511): people, groups and devices by pages (RFC 2696), over TLS."""

from __future__ import annotations

import ssl
from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from secrets import token_hex
from typing import Any
from urllib.parse import urlsplit

import polars as pl
from ldap3 import (
    BASE,
    NONE,
    SUBTREE,
    Connection,
    Server,
    Tls,
)
from ldap3.core.exceptions import LDAPException
from ldap3.utils.conv import escape_filter_chars
from ldap3.utils.dn import parse_dn

from sortitor.core import rosters
from sortitor.core.numerals import number_in
from sortitor.core.rosters import Remarked, Told
from sortitor.core.sources import Source, attributes_of
from sortitor.core.vocabulary import SecretKind
from sortitor.operations.sources.ports import Asked, Looked, Secrets, SourceFault, Tell
from sortitor.sources.distrust import why_distrusted
from sortitor.sources.network import Networks

#: What a directory answers about one entry, as the library gives it.
Entry = Mapping[str, Any]

_PAGE = 500
_CONNECT_SECONDS = 10
_ANSWER_SECONDS = 60
#: A run that asks for changes looks back so far: stamps have whole seconds, and copies of a
#: directory are not of one moment.
_OVERLAP = timedelta(minutes=2)
_STAMP = "%Y%m%d%H%M%SZ"
_STAMPED = "modifyTimestamp"
_MOST_ENTRIES = 2_000_000
#: A directory may leave pages empty (RFC 2696 §3), but not for ever.
_MOST_EMPTY_PAGES = 1_000
_MOST_SHOWN = 3
_MOST_CHARACTERS = 200
_SECRET_ATTRIBUTES = ("userpassword", "unicodepwd", "krbprincipalkey", "sambantpassword")
#: Result codes (RFC 4511 §4.1.9).
_SUCCESS, _SIZE_LIMIT, _NO_OBJECT, _BAD_PASSWORD, _FEW_RIGHTS = 0, 4, 32, 49, 50
_TIME_LIMIT, _ADMIN_LIMIT, _BUSY, _UNAVAILABLE = 3, 11, 51, 52


def read(source: Source, secrets: Secrets, asked: Asked, tell: Tell, networks: Networks) -> Told:
    """People, groups and devices of a directory; of changes alone where that is asked."""
    names = attributes_of(source)
    begun = datetime.now(UTC)
    elsewhere: set[str] = set()
    with opened(source, secrets, networks) as line:
        since = None if asked.whole else asked.cursor

        def search(condition: str | None, wanted: Sequence[str], since: str | None) -> list[Entry]:
            return list(_search(line, source, condition, wanted, since, tell, elsewhere))

        entries = search(source.people_filter, _wanted(names), since)
        people, remarks = rosters.people_of(_people(entries, names, _left(line, source, names)))
        groups = members = devices = None
        said: tuple[Remarked, ...] = ()
        if source.groups_filter:
            wanted = [names["key"], names["group_name"], names["member"]]
            found = search(source.groups_filter, wanted, since)
            groups, said = rosters.groups_of(_groups(found, names))
            members = _members(line, found, names)
        if source.devices_filter:
            wanted = [names[name] for name in ("key", *_DEVICE)]
            found = search(source.devices_filter, wanted, None)
            owners = _owner_names(line, found, names, _user_names(entries, names))
            devices, more = rosters.devices_of(_devices(found, names, owners))
            said = (*said, *more)
        cursor = _newest(line, source, begun)
    return Told(
        whole=since is None,
        people=people,
        groups=groups,
        members=members,
        devices=devices,
        cursor=cursor,
        remarks=(*remarks, *said, *_elsewhere(elsewhere)),
    )


def _written(address: str) -> str:
    """An address of another server as a run keeps it."""
    return address[:_MOST_CHARACTERS].replace("\0", " ")


def _elsewhere(addresses: Collection[str]) -> Iterator[Remarked]:
    """Nobody is asked but the server that the source names: what others hold is told."""
    if addresses:
        words = "parts of the tree that other servers hold, which are not read"
        yield Remarked("elsewhere", words, len(addresses), tuple(sorted(addresses)[:3]))


# ---- connecting


@contextmanager
def opened(source: Source, secrets: Secrets, networks: Networks) -> Iterator[Connection]:
    """A connection that is bound as the source says. Raises SourceFault."""
    password = secrets.get(SecretKind.PASSWORD, b"").decode()
    if source.bind_name and not password:
        # RFC 4513 §5.1.2: a name with an empty password is let in as nobody.
        raise SourceFault(
            "no_password",
            f"There is no password for {source.bind_name}.",
            "Give it as the source's credential.",
        )
    with bound(source, source.bind_name, password, networks) as line:
        yield line


@contextmanager
def bound(
    source: Source, name: str | None, password: str, networks: Networks
) -> Iterator[Connection]:
    """A connection as somebody; without a name as nobody."""
    parts = urlsplit(source.address or "")
    secure = parts.scheme == "ldaps"
    host = parts.hostname or ""
    port = parts.port or (636 if secure else 389)
    address = networks.address_of(host, port)
    server = Server(
        address,
        port=port,
        use_ssl=secure,
        tls=_NamedTls(host, source.authority),
        connect_timeout=_CONNECT_SECONDS,
        get_info=NONE,
    )
    line = Connection(
        server,
        user=name,
        password=password or None,
        receive_timeout=_ANSWER_SECONDS,
        raise_exceptions=False,
        auto_referrals=False,
        return_empty_attributes=False,
    )
    try:
        line.open()
        if not secure and source.starttls and not line.start_tls():
            raise _refused(line, "It does not begin TLS")
        if not line.bind():
            raise _refused(line, f"It does not let {name or 'nobody'} in")
    except LDAPException as error:
        _shut(line)
        raise _fault(error, host, port) from error
    except SourceFault:
        _shut(line)
        raise
    except OSError as error:
        raise SourceFault(
            "unreachable", f"{host}:{port} cannot be reached: {error}.", "Look whether it runs."
        ) from error
    try:
        yield line
    except LDAPException as error:
        raise _fault(error, host, port) from error
    finally:
        line.unbind()


def _shut(line: Connection) -> None:
    """Close what a failed opening leaves open."""
    if line.socket is not None:
        line.socket.close()


class _NamedTls(Tls):  # type: ignore[misc]
    """TLS that holds the certificate against the name in the source's address, as the standard
    library does it.
    """

    def __init__(self, host: str, authority: str | None) -> None:
        super().__init__(validate=ssl.CERT_REQUIRED)
        self._host = host
        try:
            self._context = ssl.create_default_context(cadata=authority)
        except (ssl.SSLError, ValueError) as error:
            raise SourceFault(
                "bad_authority",
                "The certificate of whoever vouches for the directory cannot be read.",
                "Give it in PEM form.",
            ) from error

    def wrap_socket(self, connection: Connection, do_handshake: bool = False) -> None:
        """Begin TLS on the connection's socket."""
        connection.socket = self._context.wrap_socket(connection.socket, server_hostname=self._host)


def _fault(error: LDAPException, host: str, port: int) -> SourceFault:
    text = str(error)
    if "certificate" in text.lower():
        return SourceFault(
            "certificate_refused",
            f"The certificate of {host} is not trusted: {why_distrusted(text)}.",
            "Give the certificate of whoever vouches for it, or correct the address.",
        )
    if "timed out" in text or "timeout" in text.lower():
        return SourceFault("no_answer", f"{host}:{port} does not answer in time.", "Try later.")
    return SourceFault(
        "unreachable", f"{host}:{port} cannot be asked: {text}.", "Look whether it runs."
    )


def _refused(line: Connection, what: str) -> SourceFault:
    result = line.result or {}
    words = result.get("message") or result.get("description") or "no reason given"
    if result.get("result") == _BAD_PASSWORD:
        return SourceFault(
            "wrong_password", f"{what}: name or password is wrong.", "Give the right ones."
        )
    return SourceFault("refused", f"{what}: {words}.", "Read the directory's own log.")


# ---- searching


def _search(
    line: Connection,
    source: Source,
    condition: str | None,
    attributes: Sequence[str],
    since: str | None,
    tell: Tell,
    elsewhere: set[str] | None = None,
) -> Iterator[Entry]:
    """Entries of all branches that fit a filter, by pages; each once. `elsewhere` gets the
    addresses of other servers that hold more (RFC 4511 §4.5.3). Raises SourceFault where the
    directory gives only a part: half a roster is none.
    """
    wanted = condition or "(objectClass=*)"
    if since is not None:
        wanted = f"(&{wanted}({_STAMPED}>={since}))"
    seen: set[str] = set()
    for branch in source.branches:
        cookie: Any = True
        read = empty = 0
        while cookie:
            line.search(
                branch,
                wanted,
                SUBTREE,
                attributes=[*dict.fromkeys(attributes)],
                paged_size=_PAGE,
                paged_cookie=None if cookie is True else cookie,
            )
            _require_whole(line, branch)
            page = line.response or ()
            for entry in page:
                if elsewhere is not None and entry.get("type") == "searchResRef":
                    elsewhere.update(_written(uri) for uri in entry["uri"][:1])
                place = place_of(entry["dn"]) if entry.get("type") == "searchResEntry" else None
                if place is not None and place not in seen:
                    seen.add(place)
                    yield entry
            read += len(page)
            empty += not page
            _require_end(branch, max(read, len(seen)), empty)
            tell("reading entries", len(seen), 0)
            controls = line.result.get("controls", {})
            cookie = controls.get("1.2.840.113556.1.4.319", {}).get("value", {}).get("cookie")


def _require_end(branch: str, read: int, empty: int) -> None:
    """Whatever a directory answers, a run comes to its end. Raises SourceFault."""
    if read > _MOST_ENTRIES:
        raise SourceFault(
            "too_many", f"It gives more than {_MOST_ENTRIES:,} entries.", "Narrow the scope."
        )
    if empty > _MOST_EMPTY_PAGES:
        raise SourceFault(
            "endless", f"The pages of {branch} do not come to an end.", "Read the directory's log."
        )


def _require_whole(line: Connection, branch: str) -> None:
    code = line.result["result"]
    words = line.result.get("message") or line.result.get("description")
    if code == _SUCCESS:
        return
    if code in (_SIZE_LIMIT, _TIME_LIMIT, _ADMIN_LIMIT):
        raise SourceFault(
            "cut_off",
            f"The directory gives only a part of {branch}: {words}.",
            "Let it lift its limit for the name that Sortitor binds with, or narrow the branches.",
        )
    if code == _NO_OBJECT:
        raise SourceFault(
            "no_such_branch", f"There is no branch {branch}.", "Correct the source's branches."
        )
    if code == _FEW_RIGHTS:
        raise SourceFault(
            "not_allowed", f"{branch} may not be read: {words}.", "Bind with a name that may."
        )
    raise SourceFault("refused", f"{branch} cannot be read: {words}.", "Read the directory's log.")


def place_of(name: str) -> str | None:
    """A distinguished name as it is compared (RFC 4514): case and blanks do not matter."""
    try:
        parts = parse_dn(name, escape=False, strip=True)
    except LDAPException:
        return None
    return ",".join(f"{kind.lower()}={' '.join(value.lower().split())}" for kind, value, _ in parts)


def _one(entry: Entry, attribute: str) -> str | None:
    """The first value of an attribute as text."""
    found = _several(entry, attribute)
    return found[0] if found else None


def _several(entry: Entry, attribute: str) -> list[str]:
    wanted = attribute.lower()
    for name, values in entry["raw_attributes"].items():
        if name.lower() == wanted:
            return [_text(value) for value in values]
    return []


def _text(value: bytes) -> str:
    """A value as text; what is none, such as a number of sixteen bytes, in hexadecimal."""
    try:
        return value.decode()
    except UnicodeDecodeError:
        return value.hex()


def _wanted(names: Mapping[str, str]) -> list[str]:
    return [names[name] for name in rosters.PERSON_COLUMNS]


def _left(line: Connection, source: Source, names: Mapping[str, str]) -> set[str]:
    """The places of those of whom the directory says that they have left."""
    if not source.leavers_by:
        return set()
    condition = f"(&{source.people_filter or '(objectClass=*)'}{source.leavers_by})"
    found = _search(line, source, condition, [names["key"]], None, _silent)
    return {place for entry in found if (place := place_of(entry["dn"])) is not None}


def _people(entries: Sequence[Entry], names: Mapping[str, str], left: set[str]) -> pl.DataFrame:
    rows = []
    for entry in entries:
        place = place_of(entry["dn"])
        told = {name: _one(entry, names[name]) for name in rosters.PERSON_COLUMNS}
        rows.append({**told, "place": place, "left": place in left})
    return pl.DataFrame(rows, schema=rosters.PERSON_SCHEMA)


def _groups(entries: Sequence[Entry], names: Mapping[str, str]) -> pl.DataFrame:
    return pl.DataFrame(
        [
            {
                "key": _one(entry, names["key"]),
                "name": _one(entry, names["group_name"]),
                "place": place_of(entry["dn"]),
            }
            for entry in entries
        ],
        schema=rosters.GROUP_SCHEMA,
    )


def _members(line: Connection, entries: Sequence[Entry], names: Mapping[str, str]) -> pl.DataFrame:
    """Who is in which group. Some directories give members of large groups by ranges."""
    rows = []
    for entry in entries:
        key = _one(entry, names["key"])
        for member in (
            *_several(entry, names["member"]),
            *_by_ranges(line, entry, names["member"]),
        ):
            place = place_of(member)
            if key is not None and place is not None:
                rows.append({"group_key": key, "place": place})
    return pl.DataFrame(rows, schema=rosters.MEMBER_SCHEMA).unique(maintain_order=True)


def _by_ranges(line: Connection, entry: Entry, attribute: str) -> Iterator[str]:
    """Values of an attribute that a directory gives a part at a time. Raises SourceFault where it
    does not give the next part: half a group is none.
    """
    begins, reached = f"{attribute.lower()};range=", -1
    while name := next((n for n in entry["raw_attributes"] if n.lower().startswith(begins)), None):
        yield from map(_text, entry["raw_attributes"][name])
        last = name.rpartition("-")[2]
        if last == "*":
            return
        upto = number_in(last)
        if upto is None or upto <= reached:
            raise _no_next_part(entry["dn"], name)
        reached = upto
        more = f"{attribute};range={upto + 1}-*"
        line.search(entry["dn"], "(objectClass=*)", BASE, attributes=[more])
        found = [one for one in line.response or () if one.get("type") == "searchResEntry"]
        if line.result["result"] != _SUCCESS or not found:
            raise _no_next_part(entry["dn"], more)
        entry = found[0]


def _no_next_part(place: str, part: str) -> SourceFault:
    return SourceFault(
        "cut_off",
        f"The directory does not give all of {place}: nothing follows {part[:100]}.",
        "Read the directory's own log; then let the source run again.",
    )


_DEVICE = ("serial", "device_name", "owner", "device_site")


def _devices(
    entries: Sequence[Entry], names: Mapping[str, str], owners: Mapping[str, str]
) -> pl.DataFrame:
    rows = []
    for entry in entries:
        owner = _one(entry, names["owner"]) or ""
        rows.append(
            {
                "key": _one(entry, names["key"]),
                "serial": _one(entry, names["serial"]),
                "name": _one(entry, names["device_name"]),
                "site": _one(entry, names["device_site"]),
                "person": owners.get(
                    place_of(owner) or "", None if "=" in owner else owner or None
                ),
            }
        )
    columns = ("key", "serial", "name", "site", "person")
    return pl.DataFrame(rows, schema=dict.fromkeys(columns, pl.String))


def _user_names(people: Sequence[Entry], names: Mapping[str, str]) -> dict[str, str]:
    """Place of a person → user name."""
    told = ((place_of(entry["dn"]), _one(entry, names["user_name"])) for entry in people)
    return {place: name for place, name in told if place and name}


def _owner_names(
    line: Connection,
    entries: Sequence[Entry],
    names: Mapping[str, str],
    known: Mapping[str, str],
) -> dict[str, str]:
    """Place of an owner → user name; whoever was not read as one of the people is asked for. Raises
    SourceFault where the directory would tell at another moment: nobody loses a device by that.
    """
    found = dict(known)
    for owner in {_one(entry, names["owner"]) for entry in entries}:
        place = place_of(owner) if owner and "=" in owner else None
        if owner is None or place is None or place in found:
            continue
        line.search(owner, "(objectClass=*)", BASE, attributes=[names["user_name"]])
        if line.result["result"] in (_TIME_LIMIT, _ADMIN_LIMIT, _BUSY, _UNAVAILABLE):
            _require_whole(line, owner)
        for entry in line.response or ():
            if entry.get("type") == "searchResEntry" and (name := _one(entry, names["user_name"])):
                found[place] = name
    return found


def _newest(line: Connection, source: Source, begun: datetime) -> str:
    """From when on the next run asks: by the directory's own clock where it tells it, so that
    clocks that differ lose nothing.
    """
    line.search("", "(objectClass=*)", BASE, attributes=["currentTime"])
    for entry in line.response or ():
        told = _one(entry, "currentTime") if entry.get("type") == "searchResEntry" else None
        if told:
            try:
                stamp = datetime.strptime(told[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
            except ValueError:
                break
            return (min(stamp, begun) - _OVERLAP).strftime(_STAMP)
    return (begun - _OVERLAP).strftime(_STAMP)


# ---- signing in


def proves(
    source: Source, secrets: Secrets, login: str, password: str, networks: Networks
) -> str | None:
    """The key of the one person whose login and password these are. Where there is no such person,
    somebody who does not exist is tried, so that the time taken does not tell.
    """
    # RFC 4513 §5.1.2: with an empty password anybody is let in as nobody.
    if source.signs_in_by is None or not password or "\0" in password:
        return None
    names = attributes_of(source)
    condition = f"({names[source.signs_in_by]}={escape_filter_chars(login)})"
    left = f"(!{source.leavers_by})" if source.leavers_by else ""
    wanted = f"(&{source.people_filter or '(objectClass=*)'}{condition}{left})"
    with opened(source, secrets, networks) as line:
        found = list(_search(line, source, wanted, [names["key"]], None, _silent))
    one = found[0] if len(found) == 1 else None
    whom = str(one["dn"]) if one else f"cn={token_hex(8)},{source.branches[0]}"
    try:
        with bound(source, whom, password, networks):
            return _one(one, names["key"]) if one else None
    except SourceFault as fault:
        if fault.code in _NOT_LET_IN:
            return None
        raise


_NOT_LET_IN = ("wrong_password", "refused")


def _silent(phase: str, done: int, total: int) -> None:
    """Nobody follows."""


# ---- looking


def look(source: Source, secrets: Secrets, networks: Networks) -> Looked:
    """Up to three people as the directory gives them, and what is odd about the mapping."""
    names = attributes_of(source)
    with opened(source, secrets, networks) as line:
        entries: list[Entry] = []
        for branch in source.branches:
            line.search(
                branch,
                source.people_filter or "(objectClass=*)",
                SUBTREE,
                attributes=["*", names["key"]],
                size_limit=_MOST_SHOWN,
            )
            if line.result["result"] != _SIZE_LIMIT:
                _require_whole(line, branch)
            entries += [e for e in line.response or () if e.get("type") == "searchResEntry"]
    words = [f"It answers, and lets {source.bind_name or 'everybody'} read."]
    if not entries:
        words.append("No entry fits the filter of people in these branches.")
    for name in rosters.PERSON_COLUMNS if entries else ():
        if not any(_several(entry, names[name]) for entry in entries):
            words.append(f"None of them has “{names[name]}”, which is to say the {name}.")
    shown = tuple(_shown(entry) for entry in entries[:_MOST_SHOWN])
    return Looked(tuple(words), shown)


def _shown(entry: Entry) -> dict[str, list[str]]:
    found = {"dn": [str(entry["dn"])]}
    for name, values in entry["raw_attributes"].items():
        if name.partition(";")[0].lower() not in _SECRET_ATTRIBUTES:
            found[name] = [_text(value)[:_MOST_CHARACTERS] for value in values[:_MOST_SHOWN]]
    return found
