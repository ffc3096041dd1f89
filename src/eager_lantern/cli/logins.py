"""Which password goes where: asked for once an account, and never sent to who has not proved to be its host."""

import sys
from dataclasses import replace
from typing import Any

import typer

from ..live.common.lockout_guard import LockoutGuard
from ..live.common.secret import VARIABLE, NoPassword, Secret, password_for
from ..live.common.visit_plan import Credentials, VisitPlan
from ..live.vantage.base import Vantage
from .visits import Act, Wanted

Login = tuple[Secret, LockoutGuard]
"""The password of an account, and who may try it."""
Options = dict[str, dict[str, Any]]
"""What was typed, for each part of a plan."""


def ready(wanted: Wanted, options: Options, place: Vantage, accounts: dict[str, Login], of_site: bool) -> Wanted:
    """A visit with the options on top, and the password, which is asked for once an account. Raises BadParameter."""
    parts = {name: replace(getattr(wanted.plan, name), **values) for name, values in options.items()}
    plan = replace(wanted.plan, vantage=place, **parts)
    if wanted.act != "knock":
        if of_site:
            _typed_where_clear(wanted.act, plan, "mode" in options["security"])
        user = plan.credentials.user
        if user not in accounts:
            accounts[user] = _password(plan), LockoutGuard()
        plan = replace(plan, credentials=Credentials(user, *accounts[user]))
        if of_site:
            _proved(wanted.act, plan, "host_key" in options["security"])
            print(f"eager-lantern: {_whither(wanted.act, plan)}", file=sys.stderr)
    return replace(wanted, plan=plan)


def _typed_where_clear(act: Act, plan: VisitPlan, typed: bool) -> None:
    """A site file is perhaps somebody else's: that a password goes out in clear is for who types it to say."""
    if act == "session" and plan.security.mode == "none" and not typed:
        raise typer.BadParameter(
            f"the site file has no TLS for {plan.target.service}, and the password of {plan.credentials.user} would go "
            f"to {plan.target.address or plan.target.name} in clear: type --security none if that is meant"
        )


def _proved(act: Act, plan: VisitPlan, typed_key: bool) -> None:
    """A password that belongs to the name of a host goes only to who proves to be that host; an address or a host
    key that the site file itself names proves nothing."""
    if not plan.credentials.password.of_host:
        return
    target, key = plan.target, plan.security.host_key
    if act == "ssh" and not typed_key:
        raise typer.BadParameter(
            f"the password of {target.name} is from netrc, and only the site file says that this is its host key: "
            f"type --host-key {key or 'SHA256:…'} after comparing it, or give the password by {VARIABLE}"
        )
    if act == "session" and (plan.security.mode == "none" or plan.security.any_certificate):
        raise typer.BadParameter(
            f"the password of {target.name} is from netrc, and nothing proves that "
            f"{target.address or 'the server'} is it: use TLS with a certificate, or give the password by {VARIABLE}"
        )


def _whither(act: Act, plan: VisitPlan) -> str:
    """Where a password goes, and how it is protected."""
    there = f" ({plan.target.address})" if plan.target.address not in (None, plan.target.name) else ""
    if act == "ssh":
        how = "over SSH, if it shows the host key that is expected"
    elif plan.security.mode == "none":
        how = "IN CLEAR: everybody on the way can read it"
    else:
        good = (
            "with any certificate"
            if plan.security.any_certificate
            else f"if its certificate is good for {plan.target.name}"
        )
        how = f"under TLS, {good}"
    return f"the password of {plan.credentials.user} goes to {plan.target.name}{there}, port {plan.target.port}, {how}"


def _password(plan: VisitPlan) -> Secret:
    try:
        return password_for(plan.target.name, plan.credentials.user)
    except NoPassword as error:
        raise typer.BadParameter(str(error)) from None
