"""Accounts: your own password, sessions and tokens; for administrators everybody's."""

from __future__ import annotations

import pytest
from playwright.sync_api import Browser, Page, expect
from tests.console.hands import choose
from tests.console.test_console import no_violations
from tests.worlds import PASSWORD, World

from sortitor.client import Sortitor
from sortitor.client.errors import SignInNeeded
from sortitor.core.vocabulary import Role

FRESH = "another long password"


def test_a_token_is_made_used_and_revoked(page: Page, world: World) -> None:
    page.get_by_label("Pages").get_by_role("link", name="Account", exact=True).click()
    expect(page.get_by_role("heading", name="Your account")).to_be_visible()
    tokens = page.get_by_role("table", name="Tokens")
    page.get_by_role("button", name="Make a token").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What uses it").fill("Nightly import")
    dialog.get_by_label("Lasts for days").fill("7")
    no_violations(page, "light", "the dialog for a token")
    dialog.get_by_role("button", name="Make the token").click()
    expect(page.get_by_text("it is not shown again")).to_be_visible()
    secret = page.locator("code.secret").inner_text()
    with Sortitor(world.url, secret) as script:
        assert script.accounts.me().role == Role.VIEWER
        expect(tokens).to_contain_text("Nightly import")
        expect(tokens).to_contain_text("commands and scripts")
        no_violations(page, "light", "the page of an account")
        tokens.get_by_role("button", name="Revoke Nightly import").click()
        expect(tokens).not_to_contain_text("Nightly import")
        with pytest.raises(SignInNeeded):
            script.accounts.me()


def test_a_new_password_ends_the_other_sessions(page: Page, world: World, browser: Browser) -> None:
    with Sortitor(world.url) as elsewhere:
        elsewhere.accounts.sign_in("coordinator", PASSWORD)
        page.goto("/account")
        sessions = page.get_by_role("table", name="Sessions").get_by_role("row")
        expect(sessions).to_have_count(3)
        page.get_by_role("button", name="Change your password").click()
        dialog = page.get_by_role("dialog")
        change = dialog.get_by_role("button", name="Change the password")
        dialog.get_by_label("Your password until now").fill(PASSWORD)
        dialog.get_by_label("The new password, at least").fill(FRESH)
        dialog.get_by_label("The new password once more").fill("a slip of the hand")
        expect(dialog).to_contain_text("The two are not the same.")
        expect(change).to_be_disabled()
        dialog.get_by_label("The new password once more").fill(FRESH)
        change.click()
        expect(page.get_by_role("status")).to_contain_text("The password is changed")
        expect(sessions).to_have_count(2)
        with pytest.raises(SignInNeeded):
            elsewhere.accounts.me()
        elsewhere.accounts.sign_in("coordinator", FRESH)
    expect(page.get_by_role("table", name="Accounts")).to_be_hidden()


@pytest.mark.parametrize("role", [Role.ADMINISTRATOR])
def test_an_administrator_adds_changes_and_disables_accounts(page: Page, world: World) -> None:
    page.goto("/account")
    accounts = page.get_by_role("table", name="Accounts")
    page.get_by_role("button", name="Add an account").click()
    dialog = page.get_by_role("dialog")
    add = dialog.get_by_role("button", name="Add the account")
    dialog.get_by_label("Name, with which they sign in").fill("odo")
    expect(add).to_be_disabled()
    dialog.get_by_label("Password, at least 12").fill(PASSWORD)
    no_violations(page, "light", "the dialog for an account")
    add.click()
    row = accounts.get_by_role("row").filter(has_text="odo")
    expect(row).to_contain_text("viewer")
    with Sortitor(world.url) as odo:
        odo.accounts.sign_in("odo", PASSWORD)
        row.get_by_role("link", name="odo").click()
        expect(page.get_by_role("heading", name="Account odo")).to_be_visible()
        sessions = page.get_by_role("table", name="Sessions")
        sessions.get_by_role("button", name="End").click()
        expect(sessions.get_by_role("button", name="End")).to_have_count(0)
        with pytest.raises(SignInNeeded):
            odo.accounts.me()
        row.get_by_role("button", name="Change odo").click()
        dialog.get_by_label("Role").first.click(force=True)
        choose(page, "technician")
        dialog.get_by_label("Disabled").check()
        dialog.get_by_role("button", name="Save the account").click()
        expect(row).to_contain_text("technician")
        expect(row).to_contain_text("disabled since")
        with pytest.raises(SignInNeeded):
            odo.accounts.sign_in("odo", PASSWORD)
    no_violations(page, "light", "the accounts")
