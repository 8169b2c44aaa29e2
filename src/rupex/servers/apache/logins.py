"""Who logs in: how a visitor is asked to, whether an account is there, and whom a line means (mod_auth_basic, mod_auth_form,
mod_authn_file, mod_authz_user, mod_authz_groupfile)."""

from __future__ import annotations

from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.outcome import Decision, Outcome
from rupex.servers.apache.sections import Context, last_in
from rupex.servers.apache.syntax import Directive
from rupex.servers.common.patterns import UndeterminedError


def asked_by_form(context: Context, decision: Decision) -> Outcome:
    """How a visitor is asked to log in who does so in a form (mod_auth_form.c, check_form_authn)."""
    line = last_in(context, "authformloginrequiredlocation")
    if line is None or not line.args:
        return Outcome(context=context, status=401, by=decision.by, by_server=True, is_early=True)
    if "%{" in line.args[0]:
        raise UndeterminedError(f"{line} is worked out for each request")
    return Outcome(context=context, status=302, location=line.args[0], by=line, by_server=True, is_early=True)


def has_account(context: Context, exchange: Exchange, account: str) -> bool:
    """Whether a visitor has an account where he is asked for one (mod_authn_file). Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    kind, provider = last_in(context, "authtype"), last_in(context, "authbasicprovider")
    users, faked = last_in(context, "authuserfile"), last_in(context, "authbasicfake")
    is_of_files = provider is None or [word.lower() for word in provider.args] == ["file"]
    is_basic = kind is not None and kind.args[0].lower() == "basic"
    if not is_basic or not is_of_files or faked is not None or users is None or exchange.accounts is None:
        raise UndeterminedError(f"{provider or kind}: Rupex does not know who logs in there")
    groups = last_in(context, "authgroupfile")
    is_known = exchange.accounts.has_user(users.args[0], account)
    if is_known and groups is not None:
        exchange.groups = exchange.accounts.groups_of(groups.args[0], account)
    return is_known


def status_of_login(context: Context) -> int | None:
    """The status for a visitor who must log in; None where a module decides how he is asked. Without what asking takes it is an
    error of the server (request.c, decl_die)."""
    kind, realm = last_in(context, "authtype"), last_in(context, "authname")
    word = kind.args[0].lower() if kind is not None and kind.args else "none"
    if word == "none" or realm is None:
        return 500
    return 401 if word in ("basic", "digest") else None


def is_meant(kind: str, line: Directive, exchange: Exchange) -> bool:
    """Whether a line means a visitor who has logged in (mod_authz_user, mod_authz_groupfile). Raises
    :class:`~rupex.servers.common.patterns.UndeterminedError`."""
    names = line.args[1 + (line.args[0].lower() == "not") :]
    match kind:
        case "valid-user":
            return True
        case "user":
            return exchange.account in names
        case "group":
            return not exchange.groups.isdisjoint(names)
        case _:
            raise UndeterminedError(f"Rupex does not know whom {line} ({line.provenance()}) means")
