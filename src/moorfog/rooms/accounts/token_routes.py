"""Tokens of other programs, and the recovery key."""

from __future__ import annotations

from flask import Response

from moorfog.platform.web.routing import Context, route
from moorfog.rooms.accounts import recovering, tokens
from moorfog.rooms.accounts.routes import Password
from moorfog.secret_files import key_folder


@route("POST", "/api/recovery-key", "manage", body=Password, returns=recovering.RecoveryKey)
def make_recovery_key(context: Context, body: Password) -> recovering.RecoveryKey:
    """Make the recovery key of the backups: it is shown this once, and ends that of before."""
    return recovering.new_recovery_key(context.db, context.clock, context.actor, key_folder(), body.password)


@route("GET", "/api/tokens", "manage", returns=tuple[tokens.TokenView, ...])
def get_tokens(context: Context) -> tuple[tokens.TokenView, ...]:
    """The tokens by which other programs read here."""
    return tokens.list_tokens(context.db, context.clock, context.actor)


@route("POST", "/api/tokens", "manage", body=tokens.TokenEntry, returns=tokens.TokenMade)
def make_token(context: Context, body: tokens.TokenEntry) -> tokens.TokenMade:
    """Make a token by which another program reads what an employer has here; it is shown only now."""
    return tokens.make_token(context.db, context.clock, context.actor, body)


@route("DELETE", "/api/tokens/{token_id}", "manage")
def end_token(context: Context, token_id: str) -> Response:
    """End a token at once."""
    tokens.end_token(context.db, context.clock, context.actor, token_id)
    return Response(status=204)
