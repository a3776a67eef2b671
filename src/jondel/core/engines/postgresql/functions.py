"""PostgreSQL's functions that are used most, and what they are given
(https://www.postgresql.org/docs/current/functions.html)."""

from __future__ import annotations

FUNCTIONS = (
    # of text
    *("ascii(text)", "btrim(text, characters)", "char_length(text)", "chr(code)", "concat(x, …)"),
    *("concat_ws(separator, x, …)", "format(format, …)", "initcap(text)", "left(text, n)"),
    *("length(text)", "lower(text)", "lpad(text, length, fill)", "ltrim(text, characters)"),
    *("md5(text)", "octet_length(x)", "position(part IN text)", "quote_ident(text)"),
    *("quote_literal(text)", "regexp_match(text, pattern, flags)", "repeat(text, n)"),
    *("regexp_matches(text, pattern, flags)", "regexp_replace(text, pattern, by, flags)"),
    *("regexp_split_to_table(text, pattern)", "replace(text, from, to)", "reverse(text)"),
    *("right(text, n)", "rpad(text, length, fill)", "rtrim(text, characters)"),
    *("split_part(text, separator, n)", "starts_with(text, prefix)", "strpos(text, part)"),
    *("string_to_array(text, separator)", "string_to_table(text, separator)"),
    *("substr(text, start, length)", "substring(text FROM start FOR length)", "to_hex(n)"),
    *("translate(text, from, to)", "trim(text)", "unistr(text)", "upper(text)"),
    # of anything
    *(
        "coalesce(x, y, …)",
        "greatest(x, y, …)",
        "least(x, y, …)",
        "nullif(x, y)",
        "num_nulls(x, …)",
    ),
    "pg_typeof(x)",
    # of times
    *("age(later, earlier)", "clock_timestamp()", "current_date", "date_bin(stride, time, origin)"),
    *("date_part(field, time)", "date_trunc(field, time, zone)", "extract(field FROM time)"),
    *(
        "justify_interval(interval)",
        "make_date(year, month, day)",
        "now()",
        "to_date(text, format)",
    ),
    *("make_interval(years, months, weeks, days, hours, mins, secs)", "to_char(x, format)"),
    *("make_timestamp(year, month, day, hour, min, sec)", "statement_timestamp()"),
    *("to_number(text, format)", "to_timestamp(seconds)", "to_timestamp(text, format)"),
    # of several rows
    *("array_agg(x)", "avg(x)", "bool_and(x)", "bool_or(x)", "count(*)", "json_agg(x)", "max(x)"),
    *("json_object_agg(name, x)", "jsonb_agg(x)", "jsonb_object_agg(name, x)", "min(x)"),
    *("mode() WITHIN GROUP (ORDER BY x)", "string_agg(text, separator)", "stddev(x)", "sum(x)"),
    *("percentile_cont(fraction) WITHIN GROUP (ORDER BY x)", "variance(x)"),
    *("row_number()", "rank()", "dense_rank()", "percent_rank()", "cume_dist()", "ntile(n)"),
    *("lag(x, rows, default)", "lead(x, rows, default)", "first_value(x)", "last_value(x)"),
    "nth_value(x, n)",
    # of JSON and arrays
    *("array_append(array, x)", "array_length(array, dimension)", "array_position(array, x)"),
    *("array_remove(array, x)", "array_to_string(array, separator)", "cardinality(array)"),
    *("json_build_array(x, …)", "json_build_object(name, x, …)", "jsonb_array_elements(json)"),
    *("jsonb_array_elements_text(json)", "jsonb_array_length(json)", "jsonb_build_array(x, …)"),
    *("jsonb_build_object(name, x, …)", "jsonb_each(json)", "jsonb_each_text(json)"),
    *(
        "jsonb_extract_path(json, path, …)",
        "jsonb_object_keys(json)",
        "jsonb_path_exists(json, path)",
    ),
    *("jsonb_path_query(json, path)", "jsonb_pretty(json)", "jsonb_set(json, path, x, create)"),
    *("jsonb_strip_nulls(json)", "jsonb_typeof(json)", "row_to_json(row)", "to_jsonb(x)"),
    "unnest(array)",
    # of numbers
    *("abs(x)", "ceil(x)", "div(x, y)", "exp(x)", "floor(x)", "ln(x)", "log(base, x)", "mod(x, y)"),
    *("pi()", "power(x, y)", "random()", "round(x, digits)", "sign(x)", "sqrt(x)"),
    *("trunc(x, digits)", "width_bucket(x, low, high, count)"),
    # of the database
    *("current_setting(name)", "currval(sequence)", "gen_random_uuid()", "nextval(sequence)"),
    *("generate_series(start, stop, step)", "pg_size_pretty(bytes)", "setval(sequence, n)"),
    *("pg_table_size(table)", "pg_total_relation_size(table)", "txid_current()", "version()"),
    *("encode(bytes, format)", "decode(text, format)", "sha256(bytes)"),
)
