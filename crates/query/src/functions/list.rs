//! Functions of the engine that statements may have: those that read and compute, each with what it does and an example.
//!
//! What is not here is not there: nothing that reaches files, nothing that says what machine this is.

use super::{Function, Kind};

/// Those that the engine writes itself where it makes a statement simpler; nobody need know them.
pub const NEEDED: &[&str] = &["arrow_cast", "get_field", "named_struct", "struct", "make_array"];

const fn row(
    name: &'static str,
    usage: &'static str,
    meaning: &'static str,
    example: &'static str,
) -> Function {
    Function { name, usage, meaning, example, kind: Kind::Row, is_own: false }
}

const fn group(
    name: &'static str,
    usage: &'static str,
    meaning: &'static str,
    example: &'static str,
) -> Function {
    Function { kind: Kind::Group, ..row(name, usage, meaning, example) }
}

const fn window(
    name: &'static str,
    usage: &'static str,
    meaning: &'static str,
    example: &'static str,
) -> Function {
    Function { kind: Kind::Window, ..row(name, usage, meaning, example) }
}

/// All of them.
pub const OF_THE_ENGINE: &[Function] = &[
    row(
        "abs",
        "abs(number)",
        "A number without its sign.",
        "select abs(bytes - full_bytes) as saved from requests limit 5",
    ),
    row(
        "ceil",
        "ceil(number)",
        "The next whole number upwards.",
        "select ceil(duration_ms) as ms from requests limit 5",
    ),
    row(
        "floor",
        "floor(number)",
        "The next whole number downwards.",
        "select floor(duration_ms / 100) * 100 as ms, count(*) as requests from requests group by ms order by ms",
    ),
    row(
        "round",
        "round(number [, digits])",
        "The nearest number with so many digits behind the point.",
        "select path, round(avg(duration_ms), 1) as ms from requests group by path order by ms desc limit 5",
    ),
    row(
        "trunc",
        "trunc(number)",
        "A number without what stands behind its point.",
        "select trunc(duration_ms) as ms from requests limit 5",
    ),
    row(
        "power",
        "power(base, exponent)",
        "A number raised to another.",
        "select power(10, floor(log10(bytes))) as size, count(*) as requests from requests where bytes > 0 group by size order by size",
    ),
    row("sqrt", "sqrt(number)", "The square root.", "select sqrt(sum(bytes)) as root from requests"),
    row("exp", "exp(number)", "e raised to a number.", "select exp(1) as e"),
    row("ln", "ln(number)", "The natural logarithm.", "select ln(10) as log"),
    row(
        "log10",
        "log10(number)",
        "The logarithm to base 10.",
        "select floor(log10(bytes)) as digits, count(*) as requests from requests where bytes > 0 group by digits order by digits",
    ),
    row(
        "log2",
        "log2(number)",
        "The logarithm to base 2.",
        "select floor(log2(bytes)) as bits, count(*) as requests from requests where bytes > 0 group by bits order by bits",
    ),
    row("signum", "signum(number)", "-1, 0 or 1: the sign of a number.", "select signum(-3) as sign"),
    row(
        "coalesce",
        "coalesce(value, other, …)",
        "The first value that there is.",
        "select coalesce(referrer_host, 'direct') as linked_from, count(*) as requests from requests group by linked_from order by requests desc limit 10",
    ),
    row(
        "nullif",
        "nullif(value, other)",
        "The value, or nothing where it is the other: keeps a division from failing.",
        "select path, sum(bytes) / nullif(count(*), 0) as mean from requests group by path order by mean desc limit 5",
    ),
    row(
        "greatest",
        "greatest(value, other, …)",
        "The greatest of some values.",
        "select greatest(bytes, full_bytes) as bytes from requests limit 5",
    ),
    row(
        "least",
        "least(value, other, …)",
        "The least of some values.",
        "select least(bytes, full_bytes) as bytes from requests limit 5",
    ),
    row(
        "lower",
        "lower(text)",
        "The text in small letters.",
        "select lower(host) as host, count(*) as requests from requests group by 1 order by requests desc",
    ),
    row(
        "upper",
        "upper(text)",
        "The text in capital letters.",
        "select upper(method) as method, count(*) as requests from requests group by 1 order by requests desc",
    ),
    row(
        "initcap",
        "initcap(text)",
        "Each word with a capital letter.",
        "select initcap(device) as device, count(*) as requests from requests group by 1 order by requests desc",
    ),
    row(
        "btrim",
        "btrim(text [, letters])",
        "The text without spaces, or these letters, at its ends; also written trim(…).",
        "select btrim(path, '/') as path, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "ltrim",
        "ltrim(text [, letters])",
        "The same at its beginning alone.",
        "select ltrim(path, '/') as path from requests limit 5",
    ),
    row(
        "rtrim",
        "rtrim(text [, letters])",
        "The same at its end alone.",
        "select rtrim(path, '/') as path from requests limit 5",
    ),
    row(
        "left",
        "left(text, letters)",
        "The first so many letters.",
        "select left(path, 8) as begin, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "right",
        "right(text, letters)",
        "The last so many letters.",
        "select right(path, 5) as ending, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "substr",
        "substr(text, from [, letters])",
        "The letters from a place on, counted from 1; also written substring(…).",
        "select substr(path, 2, 6) as part, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "split_part",
        "split_part(text, separator, number)",
        "The so-manieth part of a text, counted from 1.",
        "select split_part(path, '/', 2) as folder, count(*) as requests from requests group by 1 order by requests desc limit 10",
    ),
    row(
        "strpos",
        "strpos(text, part)",
        "Where a part begins, counted from 1; 0 where it is not there.",
        "select count(*) as requests from requests where strpos(path, 'tide') > 0",
    ),
    row(
        "starts_with",
        "starts_with(text, begin)",
        "Whether a text begins so.",
        "select count(*) as requests from requests where starts_with(path, '/notices/')",
    ),
    row(
        "ends_with",
        "ends_with(text, end)",
        "Whether a text ends so.",
        "select count(*) as requests from requests where ends_with(path, '.html')",
    ),
    row(
        "contains",
        "contains(text, part)",
        "Whether a text has a part.",
        "select count(*) as requests from requests where contains(agent, 'Firefox')",
    ),
    row(
        "replace",
        "replace(text, part, other)",
        "The text with a part replaced wherever it stands.",
        "select replace(path, '.html', '') as page, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "translate",
        "translate(text, letters, others)",
        "The text with letters replaced one by one.",
        "select translate(method, 'GP', 'gp') as method from requests limit 5",
    ),
    row(
        "reverse",
        "reverse(text)",
        "The letters from the last to the first.",
        "select reverse(path) as path from requests limit 5",
    ),
    row("repeat", "repeat(text, times)", "The text so many times.", "select repeat('ab', 3) as text"),
    row(
        "lpad",
        "lpad(text, length [, fill])",
        "The text filled at its left to a length.",
        "select lpad(status::text, 5, '0') as status from requests limit 5",
    ),
    row(
        "rpad",
        "rpad(text, length [, fill])",
        "The text filled at its right to a length.",
        "select rpad(method, 8, '.') as method from requests limit 5",
    ),
    row(
        "concat",
        "concat(text, other, …)",
        "Texts one after the other; also written with ||.",
        "select concat(method, ' ', path) as request, count(*) as requests from requests group by 1 order by requests desc limit 5",
    ),
    row(
        "concat_ws",
        "concat_ws(separator, text, …)",
        "Texts with a separator between.",
        "select concat_ws(' ', method, path, protocol) as request from requests limit 5",
    ),
    row(
        "character_length",
        "character_length(text)",
        "How many letters a text has; also written length(…).",
        "select path, length(path) as letters from requests order by letters desc limit 5",
    ),
    row(
        "octet_length",
        "octet_length(text)",
        "How many octets a text has.",
        "select max(octet_length(agent)) as octets from requests",
    ),
    row("ascii", "ascii(text)", "The number of the first letter.", "select ascii('A') as number"),
    row("chr", "chr(number)", "The letter of a number.", "select chr(65) as letter"),
    row("to_hex", "to_hex(number)", "A whole number in hexadecimal.", "select to_hex(255) as hex"),
    row(
        "regexp_like",
        "regexp_like(text, pattern)",
        "Whether a regular expression fits a part of a text; also written text ~ pattern.",
        "select count(*) as requests from requests where regexp_like(path, '^/notices/20[0-9]{2}/')",
    ),
    row(
        "regexp_replace",
        "regexp_replace(text, pattern, other [, flags])",
        "The text with what a regular expression fits replaced; \\1 is its first group, flag g replaces all.",
        "select regexp_replace(path, '[0-9]+', '#', 'g') as shape, count(*) as requests from requests group by 1 order by requests desc limit 10",
    ),
    row(
        "regexp_count",
        "regexp_count(text, pattern)",
        "How often a regular expression fits.",
        "select regexp_count(path, '/') as depth, count(*) as requests from requests group by 1 order by 1",
    ),
    row(
        "date_trunc",
        "date_trunc(unit, time)",
        "The beginning of the 'minute', 'hour', 'day', 'week', 'month', 'quarter' or 'year'.",
        "select date_trunc('day', time) as day, count(*) as requests from requests group by 1 order by 1",
    ),
    row(
        "date_part",
        "date_part(unit, time)",
        "A part of a time: 'hour', 'day', 'dow' (0 is Sunday), 'month' …; also written extract(hour from time).",
        "select extract(hour from time) as hour, count(*) as requests from requests group by 1 order by 1",
    ),
    row(
        "now",
        "now()",
        "This instant.",
        "select count(*) as requests from requests where time > now() - interval '7 days'",
    ),
    row("current_date", "current_date()", "Today.", "select current_date() as today"),
    row(
        "to_timestamp",
        "to_timestamp(text)",
        "An instant from a text or from seconds since 1970.",
        "select to_timestamp('2026-11-14T05:12:40Z') as time",
    ),
    row(
        "to_unixtime",
        "to_unixtime(time)",
        "Seconds since 1970.",
        "select min(to_unixtime(time)) as first from requests",
    ),
    row("to_date", "to_date(text)", "A day from a text.", "select to_date('2026-11-14') as day"),
    row(
        "to_char",
        "to_char(time, codes)",
        "A time as a text, by strftime codes.",
        "select to_char(time, '%d.%m. %H:%M') as time, path from requests limit 5",
    ),
    group(
        "count",
        "count(*), count(value), count(distinct value)",
        "How many rows, how many with a value, how many distinct values.",
        "select count(*) as requests, count(distinct visitor) as visitors from requests",
    ),
    group("sum", "sum(number)", "What all add up to.", "select sum(bytes) as bytes from requests"),
    group("avg", "avg(number)", "The mean.", "select avg(duration_ms) as ms from requests"),
    group("min", "min(value)", "The least.", "select min(time) as first, max(time) as last from requests"),
    group(
        "max",
        "max(value)",
        "The greatest.",
        "select path, max(bytes) as bytes from requests group by path order by bytes desc limit 5",
    ),
    group("median", "median(number)", "The middle one.", "select median(duration_ms) as ms from requests"),
    group(
        "stddev",
        "stddev(number)",
        "The standard deviation of a sample.",
        "select stddev(duration_ms) as ms from requests",
    ),
    group(
        "stddev_pop",
        "stddev_pop(number)",
        "The standard deviation of all.",
        "select stddev_pop(duration_ms) as ms from requests",
    ),
    group(
        "var",
        "var(number)",
        "The variance of a sample.",
        "select var(duration_ms) as variance from requests",
    ),
    group(
        "corr",
        "corr(number, other)",
        "How far two go together, from -1 to 1.",
        "select corr(bytes, duration_ms) as together from requests",
    ),
    group(
        "approx_median",
        "approx_median(number)",
        "About the middle one, in little memory.",
        "select approx_median(duration_ms) as ms from requests",
    ),
    group(
        "approx_percentile_cont",
        "approx_percentile_cont(number, share)",
        "About the number that this share of all does not exceed: 0.9 for nine of ten.",
        "select path, approx_percentile_cont(duration_ms, 0.9) as p90 from requests group by path order by p90 desc limit 5",
    ),
    group(
        "percentile_cont",
        "percentile_cont(number, share)",
        "The same exactly; all numbers are kept for it.",
        "select percentile_cont(duration_ms, 0.99) as p99 from requests",
    ),
    group(
        "string_agg",
        "string_agg(text, separator)",
        "All texts with a separator between.",
        "select status, string_agg(distinct method, ', ') as methods from requests group by status order by status",
    ),
    group(
        "bool_and",
        "bool_and(condition)",
        "Whether it holds of all.",
        "select client, bool_and(status >= 400) as only_errors from requests group by client limit 5",
    ),
    group(
        "bool_or",
        "bool_or(condition)",
        "Whether it holds of any.",
        "select client, bool_or(status >= 500) as any_failure from requests group by client limit 5",
    ),
    group(
        "first_value",
        "first_value(value order by other)",
        "The first in an order.",
        "select client, first_value(path order by time) as first from requests group by client limit 5",
    ),
    group(
        "last_value",
        "last_value(value order by other)",
        "The last in an order.",
        "select client, last_value(path order by time) as last from requests group by client limit 5",
    ),
    window(
        "row_number",
        "row_number() over (…)",
        "The place of a row in its window, from 1.",
        "select client, path, row_number() over (partition by client order by time) as step from requests limit 10",
    ),
    window(
        "rank",
        "rank() over (…)",
        "The same, where equals share a place and leave a gap.",
        "select path, count(*) as n, rank() over (order by count(*) desc) as place from requests group by path order by place limit 5",
    ),
    window(
        "dense_rank",
        "dense_rank() over (…)",
        "The same without a gap.",
        "select path, count(*) as n, dense_rank() over (order by count(*) desc) as place from requests group by path order by place limit 5",
    ),
    window(
        "percent_rank",
        "percent_rank() over (…)",
        "The place of a row as a share of all.",
        "select path, percent_rank() over (order by count(*)) as share from requests group by path limit 5",
    ),
    window(
        "ntile",
        "ntile(parts) over (…)",
        "Which of so many equal parts a row falls into.",
        "select client, ntile(4) over (order by count(*) desc) as quarter from requests group by client limit 5",
    ),
    window(
        "lag",
        "lag(value [, rows]) over (…)",
        "The value of the row before.",
        "select client, time, lag(time) over (partition by client order by time) as before from requests limit 10",
    ),
    window(
        "lead",
        "lead(value [, rows]) over (…)",
        "The value of the row after.",
        "select client, path, lead(path) over (partition by client order by time) as next from requests limit 10",
    ),
    window(
        "nth_value",
        "nth_value(value, number) over (…)",
        "The value of the so-manieth row of the window.",
        "select client, nth_value(path, 2) over (partition by client order by time) as second from requests limit 10",
    ),
];
