#!/usr/bin/env python3
"""State that is larger than memory: millions of keys in a window of a day, in sessions, in a reference, in `once`.

12 million passages of 10 million vessels in random order, in one JSON Lines file. For each kind of station: the time and the
largest memory of a run, then a second run of the same which is killed with SIGKILL near its end, and how long the next one
takes until it has sealed another batch. With --verify all rows are compared with duckdb.

    pip install --require-hashes -r bench/requirements.txt
    python3 bench/state.py --keys 10000000 --verify
"""
import argparse
import os
import re
import shutil
import signal
import subprocess
import sys
import time

import duckdb

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from peak import Peak  # noqa: E402

PASSAGE = '''pipeline = "vessels"
batch = { rows = %(rows)s }
[event.passage]
time = "passed_at"
fields = "vessel text not null, passed_at timestamptz not null, draught integer"
[event.passage.arrives]
at = "source"
match = "passages.jsonl"
'''
LANDS = '[event.%s.lands.archive]\nat = "archive"\npath = "%s"\n'
VESSEL = '''[event.vessel]
fields = "vessel text not null, name text"
[event.vessel.arrives]
at = "source"
match = "vessels.jsonl"
'''
WINDOW = '''[event.made.made]
of = "passage"
window = { %s }
group = "vessel"
late = "1h"
close = "caught_up"
most = 100_000_000
columns = "vessel, count(*) as passages, sum(draught) as draught"
'''
STATIONS = {
    "window": ("", WINDOW % 'length = "1d"', "select vessel, count(*) passages, sum(draught)::bigint draught from p group by vessel"),
    "session": ("", WINDOW % 'gap = "20h"', "select vessel, count(*) passages, sum(draught)::bigint draught from p group by vessel"),
    "reference": (VESSEL, '[event.made.made]\nof = "passage"\nreference = { event = "vessel", on = "vessel.vessel = passage.vessel" }\n'
                  'most = 100_000_000\ncolumns = "passage.vessel, vessel.name, passage.draught"\n',
                  "select p.vessel, name, draught from p left join v on p.vessel = v.vessel"),
    "once": ("", '[event.made.made]\nof = "passage"\nonce = { key = "vessel", within = "30d" }\n',
             "select distinct vessel from p"),
}


def make(folder, keys):
    os.makedirs(folder)
    engine = duckdb.connect(config={"threads": 2})
    count = keys + keys // 5
    # A factor without a common divisor makes every key come once before any comes twice, in no order.
    engine.execute(f"""copy (select printf('TN-%08d', (n * 2654435761) % {keys}) vessel,
        strftime(timestamp '2026-07-01' + to_microseconds(n * 80000000000 // {count}), '%Y-%m-%dT%H:%M:%S.%fZ') passed_at, (n * 7919) % 300 draught
        from range({count}) t(n) order by n) to '{folder}/passages.jsonl' (format json)""")
    engine.execute(f"""copy (select printf('TN-%08d', (n * 2654435761) % {keys}) vessel, printf('Vessel %d of the waterway', n) as name
        from range({keys}) t(n) order by n) to '{folder}/vessels.jsonl' (format json)""")


def settle(project, data, station, memory, rows):
    shutil.rmtree(project, ignore_errors=True)
    os.makedirs(f"{project}/pipelines")
    with open(f"{project}/sluice.toml", "w") as out:
        out.write(f'[project]\nname = "bench"\n[connection.source]\nurl = "file:{data}"\n[connection.archive]\nurl = "file:archive"\n')
    more, made, _ = STATIONS[station]
    if station != "once":
        made = made.replace("most = ", f'memory = "{memory}"\nmost = ')
    with open(f"{project}/pipelines/vessels.toml", "w") as out:
        out.write(PASSAGE % {"rows": rows} + more + made + LANDS % ("made", "made"))


def run(sluice, project, until=None):
    """Runs; gives seconds, peak in MiB, and the seconds until the first batch settled. `until` kills after so many batches."""
    began = time.time()
    process = subprocess.Popen([sluice, "run", "vessels", "--until-caught-up"], cwd=project, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
    peak = Peak(process.pid)
    first, batches = None, 0
    for line in process.stderr:
        if "batch settled" in line:
            batches += 1
            first = first or time.time() - began
            if batches == until:
                process.send_signal(signal.SIGKILL)
                break
    _, status = os.waitpid(process.pid, 0)
    if until is None and os.waitstatus_to_exitcode(status):
        sys.exit(f"the run ended with {os.waitstatus_to_exitcode(status)}")
    return time.time() - began, peak.mib(), first, batches


def verify(project, data, station):
    engine = duckdb.connect(config={"threads": 2})
    engine.execute("set timezone = 'UTC'")
    read = lambda name, columns: f"read_json('{data}/{name}.jsonl', format='newline_delimited', columns={{{columns}}})"
    for view, name, columns in (("p", "passages", "vessel:'VARCHAR', draught:'INTEGER'"), ("v", "vessels", "vessel:'VARCHAR', name:'VARCHAR'")):
        engine.execute(f"create view {view} as select * from {read(name, columns)}")
    sql = STATIONS[station][2]
    columns = [row[0] for row in engine.execute(f"describe {sql}").fetchall()]
    ours = f"(select {', '.join(columns)} from read_parquet('{project}/archive/made/**/*.parquet'))"
    counts = [engine.execute(f"select count(*) from {t}").fetchone()[0] for t in (ours, f"({sql})")]
    differ = engine.execute(f"select count(*) from ({ours} except all ({sql}) union all (({sql}) except all {ours}))").fetchone()[0]
    print(f"  rows: sluice {counts[0]:,}, duckdb {counts[1]:,}; different: {differ}", flush=True)
    return differ


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="bench/data/state")
    parser.add_argument("--keys", type=int, default=10_000_000)
    parser.add_argument("--memory", default="256MiB")
    parser.add_argument("--rows", type=int, default=100_000, help="of a batch")
    parser.add_argument("--stations", default=",".join(STATIONS))
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    sluice, folder = os.path.abspath(args.sluice), os.path.abspath(args.folder)
    data, project, bad = f"{folder}/{args.keys}", f"{folder}/project", 0
    if not os.path.exists(data):
        make(data, args.keys)
    for station in args.stations.split(","):
        settle(project, data, station, args.memory, args.rows)
        kill = (args.keys + args.keys // 5) // args.rows * 9 // 10
        killed, peak, _, _ = run(sluice, project, kill)
        again, more, first, _ = run(sluice, project)
        ledger = os.path.getsize(f"{project}/.sluice/ledger.db") / 2**20
        print(f"{station:9} {killed + again:6.0f} s in both runs, {max(peak, more):6.0f} MiB at most, ledger {ledger:6.0f} MiB; "
              f"killed after {kill} batches, {first:.1f} s until the next one settled", flush=True)
        if args.verify:
            bad += verify(project, data, station)
    sys.exit("they differ" if bad else 0)


main()
