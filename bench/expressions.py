#!/usr/bin/env python3
"""What an expression costs per row: sluice beside duckdb, in one run on the same machine.

2 million events as JSON Lines with a log line, a JSON value and a time in a spelling of its own. Each engine writes them to Parquet
as they are, then with a regular expression, a way into JSON, or a date pattern per row. What an expression adds to the time of the
plain copy is its cost. With --verify the values of both are compared.

    pip install --require-hashes -r bench/requirements.txt
    python3 bench/expressions.py --sluice target/release/sluice --verify
"""
import argparse
import json
import os
import random
import shutil
import statistics
import sys

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from json_to_parquet import timed  # noqa: E402

# What is computed, as sluice and as duckdb write it.
CASES = {
    "plain": ("line, cargo, passed", "line, cargo, passed"),
    "regex": ("regexp_substr(line, 'GET (/[a-z]+/[a-z]+)\\?n=([0-9]+)', 1, 1, '', '1') as found, cargo, passed",
              "nullif(regexp_extract(line, 'GET (/[a-z]+/[a-z]+)\\?n=([0-9]+)', 1), '') as found, cargo, passed"),
    "json": ("line, cargo #>> '{items,1,kind}' as found, passed",
             "line, cargo->>'$.items[1].kind' as found, passed"),
    "date": ("line, cargo, to_timestamp(passed, 'DD/Mon/YYYY:HH24:MI:SS') as found",
             "line, cargo, strptime(passed, '%d/%b/%Y:%H:%M:%S') as found"),
}

PIPELINE = '''pipeline = "lines"
[event.line]
fields = "n bigint not null, line text, cargo json, passed text"
[event.line.arrives]
at = "source"
match = "*.jsonl"
[event.line.lands.archive]
at = "archive"
columns = """n, %s"""
'''

DUCKDB = """
import duckdb
c = duckdb.connect(config={{'threads': 2}})
c.execute("set timezone = 'UTC'")
c.execute(r\"\"\"copy (select n, {columns} from read_json('{data}/*.jsonl', format='newline_delimited',
  columns={{n:'bigint', line:'varchar', cargo:'json', passed:'varchar'}})) to '{out}/{case}.parquet' (format parquet, compression zstd)\"\"\")
"""


def make(folder, count):
    if os.path.exists(folder):
        return
    os.makedirs(folder)
    chance = random.Random(7)
    kinds = ["ore", "oats", "lime", "timber"]
    with open(f"{folder}/lines.jsonl", "w") as out:
        for n in range(count):
            cargo = {"vessel": f"TN-{n % 9000}", "items": [{"kind": chance.choice(kinds), "tons": chance.randrange(90)} for _ in range(n % 4)]}
            row = {"n": n, "line": f"10.0.0.{n % 250} GET /locks/{'low' if n % 2 else 'high'}?n={n} 200 {n % 7777}", "cargo": cargo,
                   "passed": f"{n % 28 + 1:02}/Jul/2026:{n % 24:02}:{n % 60:02}:{n // 7 % 60:02}"}
            out.write(json.dumps(row, separators=(",", ":")) + "\n")


def verify(project, out, case):
    import duckdb

    c = duckdb.connect()
    c.execute("set timezone = 'UTC'")
    ours = f"(select n, found::varchar f from read_parquet('{project}/archive/**/*.parquet'))"
    theirs = f"(select n, found::varchar f from read_parquet('{out}/{case}.parquet'))"
    if case == "date":
        ours, theirs = ours.replace("found::varchar", "epoch_us(found)"), theirs.replace("found::varchar", "epoch_us(found)")
    differ = c.execute(f"select count(*) from ({ours} except {theirs} union all ({theirs} except {ours}))").fetchone()[0]
    rows = c.execute(f"select count(*) from {ours}").fetchone()[0]
    print(f"{case}: {rows:,} rows compared, {differ} differ")
    if differ:
        sys.exit("they differ")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="bench/data/expressions")
    parser.add_argument("--events", type=int, default=2_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    sluice, folder = os.path.abspath(args.sluice), os.path.abspath(args.folder)
    data, out, project = f"{folder}/{args.events}", f"{folder}/out", f"{folder}/project"
    make(data, args.events)
    os.makedirs(out, exist_ok=True)
    seconds = {(name, case): [] for name in ("sluice", "duckdb") for case in CASES}
    for round_ in range(args.rounds):
        for case, (ours, theirs) in CASES.items():
            shutil.rmtree(project, ignore_errors=True)
            os.makedirs(f"{project}/pipelines")
            with open(f"{project}/sluice.toml", "w") as f:
                f.write(f'[project]\nname = "bench"\n[connection.source]\nurl = "file:{data}"\n[connection.archive]\nurl = "file:archive"\n')
            with open(f"{project}/pipelines/lines.toml", "w") as f:
                f.write(PIPELINE % ours.replace("\\", "\\\\"))
            seconds["sluice", case].append(timed([sluice, "run", "lines", "--until-caught-up"], project)[0])
            script = DUCKDB.format(data=data, out=out, case=case, columns=theirs)
            seconds["duckdb", case].append(timed([sys.executable, "-c", script], project)[0])
            if args.verify and round_ == 0 and case != "plain":
                verify(project, out, case)
    median = {key: statistics.median(took) for key, took in seconds.items()}
    print(f"{'':8} {'sluice':>8} {'duckdb':>8} {'ratio':>6}   added: {'sluice':>8} {'duckdb':>8}")
    for case in CASES:
        ratio = statistics.median(a / b for a, b in zip(seconds["sluice", case], seconds["duckdb", case]))
        added = [median[name, case] - median[name, "plain"] for name in ("sluice", "duckdb")]
        print(f"{case:8} {median['sluice', case]:6.2f} s {median['duckdb', case]:6.2f} s {ratio:6.2f}          {added[0]:6.2f} s {added[1]:6.2f} s")


main()
