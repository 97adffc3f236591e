"""Kinds of values that several rooms take in."""

from __future__ import annotations

from typing import Annotated, TypeAlias

from pydantic import Field

Id: TypeAlias = Annotated[str, Field(pattern=r"^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$", description="a UUID")]
