"""What is spoken at /scim/v2: the models of RFC 7643 and RFC 7644, from `scim2-models`."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field
from scim2_models import (
    AuthenticationScheme,
    Bulk,
    CaseExact,
    ChangePassword,
    ComplexAttribute,
    ETag,
    Filter,
    Group,
    Mutability,
    Pagination,
    Patch,
    Reference,
    ResourceType,
    Returned,
    ScimProvider,
    ServiceProviderConfig,
    Sort,
    User,
)
from scim2_models import EnterpriseUser as _EnterpriseUser

MOST_RESULTS = 1_000
MOST_OPERATIONS = 1_000
MOST_BYTES = 2_000_000


class Manager(ComplexAttribute):
    """Who leads a user: any part of it may be missing (RFC 7643 §4.3 and §8.7.1)."""

    value: Annotated[str | None, CaseExact.true] = None
    ref: Reference[User] | None = Field(None, serialization_alias="$ref", validation_alias="$ref")  # type: ignore[type-arg]
    display_name: Annotated[str | None, Mutability.read_only] = None


class EnterpriseUser(_EnterpriseUser):
    """The enterprise extension, as identity providers send it."""

    manager: Manager | None = None  # type: ignore[assignment]


class Member(ComplexAttribute):
    """Who is in a group (RFC 7643 §8.7.1); the name is shown when it is asked for, and never
    set.
    """

    display: Annotated[str | None, Mutability.read_only, Returned.request] = None
    value: Annotated[str | None, CaseExact.true, Mutability.immutable] = None
    ref: Annotated[Reference[User | Group] | None, Mutability.immutable] = Field(  # type: ignore[type-arg]
        None, serialization_alias="$ref", validation_alias="$ref"
    )
    type: Annotated[str | None, Mutability.immutable] = Field(None, examples=["User", "Group"])


class ScimGroup(Group):
    """A group of users and groups."""

    members: list[Member] | None = None  # type: ignore[assignment]


ScimUser = User[EnterpriseUser]
CONFIG = ServiceProviderConfig(
    patch=Patch(supported=True),
    bulk=Bulk(supported=True, max_operations=MOST_OPERATIONS, max_payload_size=MOST_BYTES),
    filter=Filter(supported=True, max_results=MOST_RESULTS),
    change_password=ChangePassword(supported=False),
    sort=Sort(supported=True),
    etag=ETag(supported=True),
    pagination=Pagination(
        cursor=True,
        index=True,
        default_pagination_method="index",
        default_page_size=100,
        max_page_size=MOST_RESULTS,
    ),
    authentication_schemes=[
        AuthenticationScheme(
            type=AuthenticationScheme.Type.oauthbearertoken,
            name="Bearer token",
            description="A token for people: sortitor token add NAME --for-people",
            primary=True,
        )
    ],
)
PROVIDER = ScimProvider(
    models=[User, EnterpriseUser, ScimGroup],
    resource_types=[ResourceType.from_resource(ScimUser), ResourceType.from_resource(ScimGroup)],
    config=CONFIG,
)
