#!/usr/bin/env python3
"""A count per minute and key over JSON Lines: sluice beside duckdb, in one run on the same machine.

2 million passages over 3 hours from 10,000 keys in one file, out of order by up to 30 seconds. Sluice counts and sums them in
windows of one minute, closed, with `late = "1m"`, contract, ledger and syncing on; with `--once` it also drops what comes
twice. duckdb groups the same file at once. With --verify every row of both is compared.

    pip install --require-hashes -r bench/requirements.txt
    python3 bench/windows.py --sluice target/release/sluice --verify
"""
import argparse
import datetime
import json
import os
import random
import shutil
import statistics
import sys

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from json_to_parquet import timed  # noqa: E402

ONCE = '[event.passage_once.made]\nof = "passage"\nonce = { key = "passage_id", within = "1h" }\n'

PIPELINE = '''pipeline = "passages"
[event.passage]
time = "passed_at"
fields = "passage_id text not null, lock_id text not null, passed_at timestamptz not null, draught_cm integer"
[event.passage.arrives]
at = "source"
match = "*.jsonl"
%s[event.minute.made]
of = "%s"
window = { length = "1m" }
group = "lock_id"
late = "1m"
close = "caught_up"
columns = "lock_id, window_start, count(*) as passages, sum(draught_cm) as draught"
[event.minute.lands.archive]
at = "archive"
'''

DUCKDB = """
import duckdb
c = duckdb.connect(config={{'threads': 2}})
c.execute("set timezone = 'UTC'")
c.execute(\"\"\"copy (select lock_id, time_bucket(interval '1 minute', passed_at) window_start, count(*) passages,
  sum(draught_cm)::bigint draught from read_json('{data}/*.jsonl', format='newline_delimited', columns={{lock_id:'varchar',
  passed_at:'timestamptz', draught_cm:'integer'}}) group by all) to '{out}/duckdb.parquet' (format parquet)\"\"\")
"""


def make(folder, count):
    if os.path.exists(folder):
        return
    os.makedirs(folder)
    chance = random.Random(5)
    start = datetime.datetime(2026, 7, 1, 8)
    with open(f"{folder}/passages.jsonl", "w") as out:
        for n in range(count):
            at = start + datetime.timedelta(seconds=n * 10_800 / count - chance.random() * 30)
            row = {"passage_id": f"TN-{n:08}", "lock_id": f"lock-{chance.randrange(10_000):05}",
                   "passed_at": at.isoformat(timespec="milliseconds") + "Z", "draught_cm": chance.randrange(40, 260),
                   "vessel_no": f"V{chance.randrange(90_000)}", "note": "barge in tow"}
            out.write(json.dumps(row, separators=(",", ":")) + "\n")


def verify(project, out):
    import duckdb

    c = duckdb.connect()
    c.execute("set timezone = 'UTC'")
    ours = f"(select lock_id, window_start, passages, draught from read_parquet('{project}/archive/**/*.parquet'))"
    theirs = f"(select * from read_parquet('{out}/duckdb.parquet'))"
    counts = [c.execute(f"select count(*) from {t}").fetchone()[0] for t in (ours, theirs)]
    differ = c.execute(f"select count(*) from ({ours} except {theirs} union all ({theirs} except {ours}))").fetchone()[0]
    print(f"rows: sluice {counts[0]:,}, duckdb {counts[1]:,}; different: {differ}")
    if differ or counts[0] != counts[1]:
        sys.exit("they differ")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="bench/data/windows")
    parser.add_argument("--events", type=int, default=2_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--once", action="store_true")
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    sluice, folder = os.path.abspath(args.sluice), os.path.abspath(args.folder)
    data, out, project = f"{folder}/{args.events}", f"{folder}/out", f"{folder}/project"
    make(data, args.events)
    os.makedirs(out, exist_ok=True)
    pipeline = PIPELINE % ((ONCE, "passage_once") if args.once else ("", "passage"))
    seconds, peaks = {"sluice": [], "duckdb": []}, {"sluice": 0, "duckdb": 0}
    for _ in range(args.rounds):
        shutil.rmtree(project, ignore_errors=True)
        os.makedirs(f"{project}/pipelines")
        with open(f"{project}/sluice.toml", "w") as f:
            f.write(f'[project]\nname = "bench"\n[connection.source]\nurl = "file:{data}"\n[connection.archive]\nurl = "file:archive"\n')
        with open(f"{project}/pipelines/passages.toml", "w") as f:
            f.write(pipeline)
        runs = {"sluice": [sluice, "run", "passages", "--until-caught-up"],
                "duckdb": [sys.executable, "-c", DUCKDB.format(data=data, out=out)]}
        for name, command in runs.items():
            took, peak = timed(command, project)
            seconds[name].append(took)
            peaks[name] = max(peaks[name], peak)
    for name in runs:
        took = statistics.median(seconds[name])
        print(f"{name:8} {took:6.2f} s  {args.events / took:12,.0f} events/s  {peaks[name]:6.0f} MiB at most")
    ratios = [a / b for a, b in zip(seconds["sluice"], seconds["duckdb"])]
    print(f"sluice takes {statistics.median(ratios):.2f} of duckdb's time (median of the ratios)")
    if args.verify:
        verify(project, out)


main()
