"""The other engine of `cargo xtask bench query`: asks what it is told, of the log as it lies there or of a table of its own.

Each line of its input is `log STATEMENT` or `table STATEMENT`; it answers with milliseconds and how many rows there were.
"""

import sys
import time

import duckdb

log, threads = sys.argv[1], int(sys.argv[2])
engine = duckdb.connect(config={"threads": threads})
# Its fastest way: fields between spaces, texts in quotes, nothing guessed.
names = ["client", "ident", "user", "day", "zone", "request", "status", "bytes", "referrer", "agent"]
columns = ", ".join(f"'{name}': '{'BIGINT' if name in ('status', 'bytes') else 'VARCHAR'}'" for name in names)
read = (
    f"read_csv('{log}', delim=' ', quote='\"', escape='\\', header=false, auto_detect=false, nullstr='-', "
    f"columns={{{columns}}})"
)
view = f"""
create or replace view of_log as
select client, "user", status, bytes, referrer, agent,
       strptime(day, '[%d/%b/%Y:%H:%M:%S') as time,
       split_part(split_part(request, ' ', 2), '?', 1) as path
from {read}
"""
engine.execute(view)
engine.execute("create table own as select * from of_log")
print("ready", flush=True)
for line in sys.stdin:
    over, statement = line.strip().split(" ", 1)
    table = "of_log" if over == "log" else "own"
    began = time.perf_counter()
    rows = engine.execute(statement.replace(" from t", f" from {table}")).fetchall()
    print((time.perf_counter() - began) * 1000.0, len(rows), flush=True)
