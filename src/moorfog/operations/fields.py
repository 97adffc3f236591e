"""Kinds of values that several rooms take in."""

from __future__ import annotations

from typing import Annotated, TypeAlias

from pydantic import Field

Id: TypeAlias = Annotated[str, Field(pattern=r"^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$", description="a UUID")]

LINE, NUMBER = 190, 40
"""Signs of a line, and of a person's own number, as they are stored."""
Line: TypeAlias = Annotated[str, Field(max_length=LINE)]
"""What somebody types into a field: a name, a job, by whom."""
Number: TypeAlias = Annotated[str, Field(max_length=NUMBER)]
"""A person's own number, as the employer writes it."""
Label: TypeAlias = Annotated[str, Field(max_length=60)]
"""What is written on a bottle, a part or an instrument, and keys of rules."""
Why: TypeAlias = Annotated[str, Field(max_length=400)]
"""A reason, in a sentence or two."""
