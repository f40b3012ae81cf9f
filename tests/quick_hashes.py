"""Passwords of tests are hashed with little work: how much work the desk's own hasher does is tested in test_access.py."""

from __future__ import annotations

from argon2 import PasswordHasher

from restless_tide.desk import passwords

THOROUGH = passwords._hasher
"""As a desk hashes."""


def install() -> None:
    passwords._hasher = PasswordHasher(time_cost=1, memory_cost=64, parallelism=1)
