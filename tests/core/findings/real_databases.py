"""Databases written by real applications and frameworks, each by what it does itself.

Each entry names the packages it takes and a program that has them write a database. Everything in
them is made up.
"""

from __future__ import annotations

import subprocess
import sys
import venv
from pathlib import Path

_NAMES = """
FIRST = "Ada Bram Cleo Dov Edda Finn Greta Hal Ines Jory Kaj Lena Milo Nell Odo Pia Rolf Tess".split()
LAST = "Ashgrove Birk Coombe Darrow Eddy Fallow Garth Holm Inger Marl Quill Reed Sedge".split()
import random
chance = random.Random(7)
def person():
    return f"{chance.choice(FIRST)} {chance.choice(LAST)}"
def words(count):
    return " ".join(chance.choice("tide berth rope sail harbour boat quay storm light fog".split())
                    for _ in range(count)).capitalize() + "."
"""

_DJANGO = """
import django, sys
from django.conf import settings
settings.configure(
    SECRET_KEY="x" * 50, USE_TZ=True, ROOT_URLCONF="", DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": sys.argv[1]}},
    INSTALLED_APPS=APPS, WAGTAIL_SITE_NAME="Harbour", WAGTAILADMIN_BASE_URL="http://localhost",
    TEMPLATES=[{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}],
    **MORE,
)
django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
from django.contrib.auth.models import User, Group
from django.contrib.sessions.backends.db import SessionStore
for number in range(60):
    first, _, last = person().partition(" ")
    user = User.objects.create_user(f"{first}{number}".lower(), f"{first}.{last}{number}@example.org",
                                    "a secret" if number < 3 else None, first_name=first, last_name=last,
                                    is_staff=number % 9 == 0, is_superuser=number == 0)
    if number % 3 == 0:
        store = SessionStore(); store["user"] = user.pk; store.create()
"""

PROGRAMS: dict[str, tuple[tuple[str, ...], str]] = {
    "django": (
        ("django",),
        "APPS = ['django.contrib.admin', 'django.contrib.auth', 'django.contrib.contenttypes',"
        " 'django.contrib.sessions', 'django.contrib.messages', 'django.contrib.sites',"
        " 'django.contrib.redirects', 'django.contrib.flatpages']\nMORE = {'SITE_ID': 1}\n"
        + _DJANGO
        + """
from django.contrib.admin.models import LogEntry, ADDITION, CHANGE
from django.contrib.contenttypes.models import ContentType
from django.contrib.flatpages.models import FlatPage
kind = ContentType.objects.get_for_model(User)
for user in User.objects.all():
    if user.is_staff:
        for other in User.objects.order_by("?")[:8]:
            LogEntry.objects.create(user=user, content_type=kind, object_id=str(other.pk),
                                    object_repr=str(other), action_flag=chance.choice((ADDITION, CHANGE)),
                                    change_message='[{"changed": {"fields": ["Email address"]}}]')
for number in range(40):
    page = FlatPage.objects.create(url=f"/page-{number}/", title=words(3), content=words(40))
    page.sites.add(1)
for name in ("Masters", "Clerks", "Guests"):
    group = Group.objects.create(name=name)
    group.user_set.set(User.objects.order_by("?")[:10])
""",
    ),
    "content management": (
        ("wagtail",),
        "APPS = ['wagtail.contrib.forms', 'wagtail.contrib.redirects', 'wagtail.embeds', 'wagtail.sites',"
        " 'wagtail.users', 'wagtail.snippets', 'wagtail.documents', 'wagtail.images', 'wagtail.search',"
        " 'wagtail.admin', 'wagtail', 'modelcluster', 'taggit', 'django.contrib.admin',"
        " 'django.contrib.auth', 'django.contrib.contenttypes', 'django.contrib.sessions',"
        " 'django.contrib.messages', 'django.contrib.staticfiles']\nMORE = {'STATIC_URL': '/s/'}\n"
        + _DJANGO
        + """
from wagtail.models import Page
home = Page.objects.get(depth=2)
author = User.objects.first()
for number in range(80):
    page = home.add_child(instance=Page(title=words(4).rstrip("."), slug=f"page-{number}", owner=author))
    revision = page.save_revision(user=author)
    if number % 4:
        revision.publish()
    if number % 9 == 0:
        page.title = words(3).rstrip("."); page.save_revision(user=author, log_action=True)
""",
    ),
    "coverage data": (
        ("coverage",),
        """
import coverage, sys, json, email, html, argparse, textwrap, csv, difflib
measured = coverage.Coverage(data_file=sys.argv[1], branch=True, source_pkgs=["json", "difflib", "textwrap", "argparse", "email"])
for round in range(12):
    measured.start(); measured.switch_context(f"round {round}")
    json.loads(json.dumps({"a": [1, 2.5, None, words(3)]})); textwrap.fill(words(40))
    list(difflib.ndiff(words(9).split(), words(9).split()))
    parser = argparse.ArgumentParser(); parser.add_argument("--x"); parser.parse_args(["--x", "1"])
    email.message_from_string("Subject: a\\n\\nb")
    measured.stop()
measured.save()
""",
    ),
    "shell history": (
        ("ipython",),
        """
import sys, os
from IPython.core.interactiveshell import InteractiveShell
from traitlets.config import Config
config = Config(); config.HistoryManager.hist_file = sys.argv[1]; config.HistoryManager.db_log_output = True
for session in range(6):
    InteractiveShell.clear_instance(); shell = InteractiveShell.instance(config=config)
    for number in range(40):
        shell.run_cell(chance.choice(("x = 1", "2 + 2", "y = [n for n in range(9)]", "print('tide')", "def f(a):\\n    return a * 2", "f(3) if 'f' in dir() else None")), store_history=True)
    shell.history_manager.writeout_cache(); shell.history_manager.end_session()
""",
    ),
    "studies": (
        ("optuna", "sqlalchemy"),
        """
import optuna, sys
optuna.logging.set_verbosity(optuna.logging.ERROR)
def aim(trial):
    x = trial.suggest_float("x", -5, 5); n = trial.suggest_int("n", 1, 9); kind = trial.suggest_categorical("kind", ["a", "b"])
    for step in range(4):
        trial.report(x * x + step, step)
        if step == 2 and trial.should_prune(): raise optuna.TrialPruned()
    trial.set_user_attr("note", words(2))
    return x * x + n + (kind == "b")
for name in ("calm", "storm"):
    optuna.create_study(storage=f"sqlite:///{sys.argv[1]}", study_name=name, sampler=optuna.samplers.TPESampler(seed=1)).optimize(aim, n_trials=60)
""",
    ),
    "http cache": (
        ("requests-cache",),
        """
import sys, threading, http.server, requests_cache, json
class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        body = json.dumps({"path": self.path, "words": words(9)}).encode()
        self.send_response(404 if "missing" in self.path else 200); self.send_header("Content-Type", "application/json"); self.send_header("Content-Length", str(len(body))); self.end_headers(); self.wfile.write(body)
    def log_message(self, *a): pass
server = http.server.HTTPServer(("127.0.0.1", 0), Handler); threading.Thread(target=server.serve_forever, daemon=True).start()
session = requests_cache.CachedSession(sys.argv[1], backend="sqlite", allowable_codes=(200, 404), expire_after=3600)
for number in range(150):
    session.get(f"http://127.0.0.1:{server.server_port}/berths/{number % 120}{'/missing' if number % 17 == 0 else ''}")
server.shutdown()
""",
    ),
    "disk cache": (
        ("diskcache",),
        """
import sys, os, shutil, diskcache
cache = diskcache.Cache(sys.argv[1] + ".d", statistics=True)
for number in range(400):
    value = chance.choice((number, words(5), {"a": number}, b"x" * 200, None, 2.5))
    cache.set(f"key {number}" if number % 3 else number, value, expire=chance.choice((None, 3600)), tag=chance.choice((None, "a", "b")))
for number in range(200): cache.get(number)
cache.close(); shutil.copy(os.path.join(sys.argv[1] + ".d", "cache.db"), sys.argv[1])
""",
    ),
    "job store": (
        ("apscheduler", "sqlalchemy"),
        """
import sys, datetime, time
from apscheduler.schedulers.background import BackgroundScheduler
scheduler = BackgroundScheduler(timezone="UTC"); scheduler.add_jobstore("sqlalchemy", url=f"sqlite:///{sys.argv[1]}")
scheduler.start(paused=True)
for number in range(80):
    scheduler.add_job(print, chance.choice(("interval",)), minutes=number + 1, id=f"job {number}", args=[words(2)])
scheduler.shutdown()
""",
    ),
    "task queue": (
        ("huey",),
        """
import sys
from huey import SqliteHuey
huey = SqliteHuey(filename=sys.argv[1])
@huey.task()
def work(words): return words
@huey.task(retries=2)
def other(n): return n
for number in range(120):
    (work(words(3)) if number % 2 else other.schedule((number,), delay=60))
for number in range(30): huey.execute(huey.dequeue())
""",
    ),
    "music library": (
        ("beets",),
        """
import sys
from beets import library
lib = library.Library(sys.argv[1])
for album in range(20):
    artist, year = person(), chance.randrange(1970, 2026)
    items = [library.Item(title=words(2).rstrip("."), artist=artist, albumartist=artist, album=f"Album {album}", track=n + 1, tracktotal=9, year=year, length=chance.uniform(90, 400), bitrate=320000, format="FLAC", path=f"/music/{album}/{n}.flac".encode(), added=1_700_000_000.0 + album) for n in range(9)]
    for item in items: lib.add(item)
    lib.add_album(items)
""",
    ),
}


def make_environment(folder: Path) -> Path:
    """A virtual environment with all that the programs take; gives its interpreter."""
    venv.create(folder, with_pip=True)
    python = folder / "bin" / "python"
    packages = sorted({package for packages, _ in PROGRAMS.values() for package in packages})
    subprocess.run([python, "-m", "pip", "install", "--quiet", *packages], check=True)
    return python


def write_database(python: Path, name: str, path: Path) -> None:
    """Have a program write its database."""
    _, program = PROGRAMS[name]
    subprocess.run(
        [python, "-W", "ignore", "-c", _NAMES + program, str(path)],
        check=True,
        cwd=path.parent,
        capture_output=True,
        text=True,
    )


if __name__ == "__main__":
    interpreter, into = Path(sys.argv[1]), Path(sys.argv[2])
    for wanted in sys.argv[3:] or PROGRAMS:
        try:
            write_database(interpreter, wanted, into / f"{wanted.replace(' ', '_')}.db")
        except subprocess.CalledProcessError as error:
            sys.stderr.write(f"{wanted}: {error.stderr[-600:]}\n")
