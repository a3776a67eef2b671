"""The words of the commands about what a database holds: asked, imported, exported, checked."""

from __future__ import annotations

from jondel.cli.arguments import Add, as_json, lock, repeated, target


def add_data_commands(command: Add) -> None:
    added = command(
        "query",
        "querying:run_query",
        "run statements and print their rows; nothing is written unless that is asked for; the "
        "tables of snapshots go by their ids and labels, as in s3.bookings",
    )
    target(added)
    lock(added)
    added.add_argument("sql", metavar="SQL", nargs="?", default="")
    added.add_argument("-f", "--file", metavar="FILE", help="read the statements from it; - stdin")
    repeated(
        added,
        "--param",
        "NAME=VALUE",
        "the value of a parameter; those without a name are 1, 2 and so on",
        "parameters",
    )
    added.add_argument("--at", metavar="SNAPSHOT", help="ask a snapshot instead of the database")
    added.add_argument(
        "--rehearse",
        action="store_true",
        help="show what statements that write would change, and write nothing",
    )
    added.add_argument(
        "--write", action="store_true", help="run statements that write for real, as a step"
    )
    added.add_argument(
        "--foreign-keys",
        dest="foreign_keys",
        choices=("on", "off"),
        help="whether they are enforced for what writes; kept with the project",
    )
    added.add_argument(
        "--format",
        dest="form",
        choices=("text", "table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"),
        help="by default that of FILE's ending, else a table",
    )
    added.add_argument("-o", "--output", metavar="FILE", help="write the rows to a file")
    added.add_argument("--into", metavar="TABLE", help="the table that --format sql inserts into")
    added.add_argument(
        "--with-table", action="store_true", help="--format sql makes the table as well"
    )
    as_json(added)
    _add_import(command)
    _add_export(command)
    added = command(
        "check-sql",
        "checking:check_sql",
        "find the SQL in an app's source and check it against the schema; nothing is run. Exits "
        "with 4 where something is wrong",
    )
    target(added)
    lock(added)
    added.add_argument("--at", metavar="SNAPSHOT", help="check against a snapshot's schema")
    added.add_argument("words", metavar="PATH", nargs="+", help="source files, and folders of them")
    as_json(added)
    added = command(
        "history", "history:show_history", "show the versions of one record over the trail"
    )
    target(added)
    lock(added)
    added.add_argument("table", metavar="TABLE")
    added.add_argument("key", metavar="KEY", nargs="+", help="the values of the record's key")
    as_json(added)


def _add_import(command: Add) -> None:
    added = command(
        "import",
        "importing:import_file",
        "show what a file of rows would be imported as; --rehearse tries it out, --write does it, "
        "in one transaction",
    )
    target(added)
    lock(added)
    added.add_argument("file", metavar="FILE", help="CSV, JSON, JSON lines or XLSX")
    added.add_argument(
        "--into", metavar="TABLE", help="by default the one that FILE is named after"
    )
    added.add_argument("--new", action="store_true", help="make the table; its types are guessed")
    repeated(
        added,
        "--match",
        "COLUMN=NAME",
        "which column of the table one of the file goes into; with no NAME it is left out",
        "matches",
    )
    repeated(
        added,
        "--type",
        "COLUMN=TYPE",
        "a type of a new table's column; or how values are read: as-it-is, comma-decimals, "
        "day-first, month-first, seconds, base64",
        "types",
    )
    added.add_argument("--key", metavar="COLUMN", help="the primary key of a new table")
    added.add_argument(
        "--from", dest="from_format", choices=("csv", "json", "jsonl", "xlsx"),
        help="what FILE is, where its name does not say that",
    )  # fmt: skip
    added.add_argument("--encoding", metavar="NAME", help="that of a CSV file; by default UTF-8")
    added.add_argument("--delimiter", metavar="CHARACTER", help="what separates fields")
    added.add_argument(
        "--no-heading", dest="heading", action="store_false", help="the first row is a row"
    )
    added.add_argument("--null", metavar="TEXT", help="a text that stands for NULL")
    added.add_argument("--sheet", metavar="NAME", help="the sheet of a workbook")
    added.add_argument("--rehearse", action="store_true", help="show what it would change")
    added.add_argument("--write", action="store_true", help="import it for real, as a step")
    added.add_argument("--strict", action="store_true", help="import nothing if a row is rejected")
    added.add_argument(
        "--rejects", metavar="FILE", help="where rejected rows go; by default beside FILE"
    )
    added.add_argument("--foreign-keys", dest="foreign_keys", choices=("on", "off"))
    as_json(added)


def _add_export(command: Add) -> None:
    added = command(
        "export",
        "exporting:export",
        "write tables to a file, or to a folder of files; or the changes of a step",
    )
    target(added)
    lock(added)
    repeated(
        added, "--table", "TABLE", "only this table; may be repeated; by default all", "tables"
    )
    added.add_argument(
        "-o", "--output", metavar="FILE", required=True, help="a folder for several in one format"
    )
    added.add_argument(
        "--format",
        dest="form",
        choices=("table", "csv", "json", "jsonl", "markdown", "html", "xlsx", "sql"),
        help="by default that of FILE's ending, else csv",
    )
    added.add_argument("--at", metavar="SNAPSHOT", help="as of a snapshot")
    added.add_argument("--changes", metavar="STEP", help="what a step changed")
    added.add_argument(
        "--backward", action="store_true", help="with --changes: what takes them back"
    )
    repeated(
        added,
        "--record",
        "TABLE=KEY",
        "a record with all that it points at, as sql or json; may be repeated",
        "records",
    )
    repeated(
        added,
        "--children",
        "TABLE.COLUMN",
        "with --record: also what points at it by this link; `all` for all links",
    )
    added.add_argument(
        "--renumber",
        metavar="FIRST",
        type=int,
        nargs="?",
        const=1,
        help="with --record: other numbers for keys and what points at them, from FIRST on",
    )
    repeated(
        added,
        "--mask",
        "TABLE.COLUMN",
        "with --record: values of no meaning in a column, as in skippers.email",
        "masks",
    )
    added.add_argument(
        "--with-table", action="store_true", help="sql makes the tables and their indexes as well"
    )
