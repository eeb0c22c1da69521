"""Roles: what a metric is for."""

from __future__ import annotations

from typing import Literal

# Decides; judged beside; on request only; read beside and never judged.
Role = Literal["primary", "secondary", "detail", "context"]
# The roles that decide: the first one that any metric has.
DECIDING: tuple[Role, ...] = ("primary", "secondary")
