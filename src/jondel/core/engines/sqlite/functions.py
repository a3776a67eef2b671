"""SQLite's functions and what they are given (https://sqlite.org/lang_corefunc.html and the pages
of aggregate, window, date, JSON and mathematical functions)."""

from __future__ import annotations

FUNCTIONS = (
    # of one row
    *("abs(x)", "char(x, …)", "coalesce(x, y, …)", "concat(x, …)", "concat_ws(separator, x, …)"),
    *("format(format, …)", "glob(pattern, text)", "hex(x)", "ifnull(x, y)", "iif(test, x, y)"),
    *("instr(text, part)", "last_insert_rowid()", "length(x)", "like(pattern, text, escape)"),
    *("likelihood(x, probability)", "lower(text)", "ltrim(text, characters)", "max(x, y, …)"),
    *("min(x, y, …)", "nullif(x, y)", "octet_length(x)", "printf(format, …)", "quote(x)"),
    *("random()", "randomblob(bytes)", "replace(text, from, to)", "round(x, digits)"),
    *(
        "rtrim(text, characters)",
        "sign(x)",
        "substr(text, start, length)",
        "trim(text, characters)",
    ),
    *("typeof(x)", "unhex(text, ignored)", "unicode(text)", "upper(text)", "zeroblob(bytes)"),
    *("changes()", "total_changes()", "sqlite_version()"),
    # of several rows
    *("avg(x)", "count(*)", "group_concat(x, separator)", "string_agg(x, separator)", "sum(x)"),
    *("total(x)", "max(x)", "min(x)"),
    *("row_number()", "rank()", "dense_rank()", "percent_rank()", "cume_dist()", "ntile(n)"),
    *("lag(x, rows, default)", "lead(x, rows, default)", "first_value(x)", "last_value(x)"),
    "nth_value(x, n)",
    # of times
    *("date(time, modifier, …)", "time(time, modifier, …)", "datetime(time, modifier, …)"),
    *("julianday(time, modifier, …)", "unixepoch(time, modifier, …)"),
    *("strftime(format, time, modifier, …)", "timediff(later, earlier)"),
    # of JSON
    *("json(json)", "json_array(x, …)", "json_array_length(json, path)", "json_each(json, path)"),
    *("json_extract(json, path, …)", "json_group_array(x)", "json_group_object(name, x)"),
    *("json_insert(json, path, x, …)", "json_object(name, x, …)", "json_patch(json, patch)"),
    *("json_quote(x)", "json_remove(json, path, …)", "json_replace(json, path, x, …)"),
    *("json_set(json, path, x, …)", "json_tree(json, path)", "json_type(json, path)"),
    *("json_valid(json, flags)", "jsonb(json)"),
    # of numbers
    *("ceil(x)", "floor(x)", "trunc(x)", "exp(x)", "ln(x)", "log(base, x)", "log2(x)", "mod(x, y)"),
    *("pi()", "pow(x, y)", "sqrt(x)", "radians(x)", "degrees(x)", "sin(x)", "cos(x)", "tan(x)"),
    *("acos(x)", "asin(x)", "atan(x)", "atan2(y, x)"),
)
