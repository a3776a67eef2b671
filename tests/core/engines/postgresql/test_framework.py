"""A database that a framework makes and migrates is followed step by step."""

from __future__ import annotations

import os
import subprocess
import sys
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from server_work import naive_reading

from jondel.core.engines.registry import open_database
from jondel.core.model.changes import Changes
from jondel.core.trail.trail import Trail

_SETTINGS = """
SECRET_KEY = "made up"
USE_TZ = True
INSTALLED_APPS = ["django.contrib.auth", "django.contrib.contenttypes", "django.contrib.sessions",
                  "harbour"]
DATABASES = {"default": {"ENGINE": "django.db.backends.postgresql", "NAME": "%s", "USER": "jondel",
                         "HOST": "%s"}}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates"}]
"""
_MODELS = """
import uuid
from django.contrib.postgres.fields import ArrayField
from django.db import models

class Berth(models.Model):
    code = models.UUIDField(default=uuid.uuid4, primary_key=True)
    name = models.CharField(max_length=40, unique=True)
    price = models.DecimalField(max_digits=8, decimal_places=2)
    tags = ArrayField(models.TextField(), default=list)
    facts = models.JSONField(default=dict)
    free_from = models.DateTimeField(null=True)

class Stay(models.Model):
    berth = models.ForeignKey(Berth, models.CASCADE)
    nights = models.DurationField()
    boats = models.ManyToManyField("auth.User")
"""
_ACTIONS = (
    ["makemigrations", "harbour"],
    ["migrate"],
    ["shell", "-c", "from django.contrib.auth.models import User; "
     "User.objects.create_superuser('mate', 'mate@example.org', 'made up')"],
    ["shell", "-c", "from harbour.models import *; from decimal import Decimal as D; "
     "[Berth.objects.create(name=f'b{i}', price=D(i) / 3, tags=['a', str(i)], facts={'n': i}) "
     "for i in range(20)]"],
    ["shell", "-c", "from harbour.models import *; from datetime import timedelta as t; "
     "from django.contrib.auth.models import User; s = Stay.objects.create(berth=Berth.objects."
     "get(name='b3'), nights=t(days=3, hours=4)); s.boats.add(User.objects.get())"],
    ["shell", "-c", "from harbour.models import *; Berth.objects.filter(name__gt='b5').delete(); "
     "Berth.objects.filter(name='b1').update(facts={'n': [1, None]}, price=7)"],
    ["shell", "-c", "from harbour.models import *; from django.db import transaction\n"
     "with transaction.atomic():\n    Berth.objects.all().delete()\n"
     "    transaction.set_rollback(True)"],
    ["flush", "--no-input"],
)  # fmt: skip


@pytest.fixture
def manage(tmp_path: Path, postgresql_database: str) -> Any:
    """Runs the framework's commands in a project that uses the database."""
    parts = urlsplit(postgresql_database)
    (tmp_path / "harbour" / "migrations").mkdir(parents=True)
    (tmp_path / "harbour" / "__init__.py").touch()
    (tmp_path / "harbour" / "migrations" / "__init__.py").touch()
    (tmp_path / "harbour" / "models.py").write_text(_MODELS)
    host = parse_qs(parts.query)["host"][0]
    (tmp_path / "office.py").write_text(_SETTINGS % (parts.path.lstrip("/"), host))

    def run(*arguments: str) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "django", *arguments, "--settings", "office"],
            cwd=tmp_path, env={**os.environ, "PYTHONPATH": str(tmp_path)}, check=False,
            capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr

    return run


def test_migrations_and_actions_are_steps(
    manage: Any, postgresql_database: str, home: Path
) -> None:
    with (
        closing(open_database(postgresql_database)) as database,
        closing(Trail(database.location)) as trail,
    ):
        before, read = trail.take(database), naive_reading(postgresql_database)
        seen = []
        for action in _ACTIONS:
            manage(*action)
            after, reads = trail.take(database), naive_reading(postgresql_database)
            changes = trail.changes(before, after)
            _check(changes, read, reads)
            seen.append(changes.counts.total)
            before, read = after, reads
        assert seen[0] == seen[-2] == 0, "nothing was written, or nothing of it stayed"
        assert all(total for number, total in enumerate(seen) if number not in (0, 6)), seen


def _check(
    changes: Changes,
    was: dict[str, Counter[tuple[str | None, ...]]],
    now: dict[str, Counter[tuple[str | None, ...]]],
) -> None:
    """As many records went and came as rows of a naive reading, in the same tables."""
    told = {
        entry.table.name: (entry.counts.removed + entry.counts.changed,
                           entry.counts.added + entry.counts.changed)
        for entry in changes.tables
    }  # fmt: skip
    nothing: Counter[tuple[str | None, ...]] = Counter()
    expected = {}
    for name in was.keys() | now.keys():
        before, after = was.get(name, nothing), now.get(name, nothing)
        if before != after:
            expected[name] = ((before - after).total(), (after - before).total())
    assert told == expected
    assert {c.object for c in changes.schema_changes if c.kind == "table added"} == {
        f"public.{name}" for name in now.keys() - was.keys()
    }
