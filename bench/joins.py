#!/usr/bin/env python3
"""Passages joined with tolls within ten minutes: sluice beside duckdb, in one run on the same machine.

A million passages and a million tolls over 6 hours from 50,000 vessels, out of order by up to 30 seconds; 80 % of the
passages have a toll. Sluice reads both, from files or with `--topics` from two topics of the stand-in broker with 4 partitions
each, joins them with contract, ledger, state and syncing on, and lands the pairs and the passages without one as Parquet.
duckdb joins the same rows from files at once. With --verify every row of both is compared.

    pip install --require-hashes -r bench/requirements.txt
    python3 bench/joins.py --sluice target/release/sluice --topics --verify
"""
import argparse
import datetime
import json
import os
import random
import shutil
import statistics
import subprocess
import sys
import time

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from json_to_parquet import timed  # noqa: E402

ADDRESS = "127.0.0.1:39093"

PIPELINE = '''pipeline = "passages"
[event.passage]
time = "passed_at"
fields = "passage_id text not null, lock_id text not null, vessel_no text not null, passed_at timestamptz not null"
[event.passage.arrives]
%s
[event.toll]
time = "paid_at"
fields = "toll_id text not null, vessel_no text not null, paid_at timestamptz not null, cents integer"
[event.toll.arrives]
%s
[event.paid.made]
of = "passage"
join = { event = "toll", on = "passage.vessel_no = toll.vessel_no", from = "0s", to = "10m", unmatched = "left" }
late = "1m"
close = "caught_up"
most = 10_000_000
columns = "passage.passage_id, passage.lock_id, passage.passed_at, toll.toll_id, toll.cents"
[event.paid.lands.archive]
at = "archive"
'''

DUCKDB = """
import duckdb
c = duckdb.connect(config={{'threads': 2}})
c.execute("set timezone = 'UTC'")
p = "read_json('{data}/passages.jsonl', format='newline_delimited', columns={{passage_id:'varchar', lock_id:'varchar', vessel_no:'varchar', passed_at:'timestamptz'}})"
t = "read_json('{data}/tolls.jsonl', format='newline_delimited', columns={{toll_id:'varchar', vessel_no:'varchar', paid_at:'timestamptz', cents:'integer'}})"
c.execute(f\"\"\"copy (select passage_id, lock_id, passed_at, toll_id, cents from {{p}} p left join {{t}} t
  on p.vessel_no = t.vessel_no and paid_at >= passed_at and paid_at <= passed_at + interval '10 minutes')
  to '{out}/duckdb.parquet' (format parquet)\"\"\")
"""


def make(folder, count):
    if os.path.exists(folder):
        return
    os.makedirs(folder)
    chance = random.Random(5)
    start = datetime.datetime(2026, 7, 1, 8)
    moment = lambda second: (start + datetime.timedelta(seconds=second)).isoformat(timespec="milliseconds") + "Z"
    passages, tolls = [], []
    for n in range(count):
        second, vessel = n * 21_600 / count, f"V{chance.randrange(50_000):05}"
        row = {"passage_id": f"TN-{n:08}", "lock_id": f"lock-{chance.randrange(200):03}", "vessel_no": vessel,
               "passed_at": moment(second - chance.random() * 30), "note": "barge in tow"}
        passages.append((second, row))
        paid = second + (chance.random() * 500 if chance.random() < .8 else 900 + chance.random() * 900)
        tolls.append((paid, {"toll_id": f"TO-{n:08}", "vessel_no": vessel, "paid_at": moment(paid),
                             "cents": chance.randrange(100, 9_000), "office": "Tarrow North"}))
    tolls.sort(key=lambda toll: toll[0] + chance.random() * 30)
    for name, rows in (("passages", passages), ("tolls", tolls)):
        with open(f"{folder}/{name}.jsonl", "w") as out:
            for _, row in rows:
                out.write(json.dumps(row, separators=(",", ":")) + "\n")


def verify(project, out):
    import duckdb

    c = duckdb.connect()
    c.execute("set timezone = 'UTC'")
    ours = f"(select passage_id, lock_id, passed_at, toll_id, cents from read_parquet('{project}/archive/**/*.parquet'))"
    theirs = f"(select * from read_parquet('{out}/duckdb.parquet'))"
    counts = [c.execute(f"select count(*) from {t}").fetchone()[0] for t in (ours, theirs)]
    differ = c.execute(f"select count(*) from ({ours} except {theirs} union all ({theirs} except {ours}))").fetchone()[0]
    print(f"rows: sluice {counts[0]:,}, duckdb {counts[1]:,}; different: {differ}")
    if differ or counts[0] != counts[1]:
        sys.exit("they differ")


def settle(project, data, topics):
    shutil.rmtree(project, ignore_errors=True)
    os.makedirs(f"{project}/pipelines")
    source = f"kafka://{ADDRESS}" if topics else f"file:{data}"
    with open(f"{project}/sluice.toml", "w") as f:
        f.write(f'[project]\nname = "bench"\n[connection.source]\nurl = "{source}"\n[connection.archive]\nurl = "file:archive"\n')
    place = 'at = "source"\ntopic = "%s"\nformat = "json"' if topics else 'at = "source"\nmatch = "%s.jsonl"'
    with open(f"{project}/pipelines/passages.toml", "w") as f:
        f.write(PIPELINE % (place % "passages", place % "tolls"))


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="bench/data/joins")
    parser.add_argument("--events", type=int, default=1_000_000, help="of each kind")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--topics", action="store_true")
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    sluice, folder = os.path.abspath(args.sluice), os.path.abspath(args.folder)
    data, out, project = f"{folder}/{args.events}", f"{folder}/out", f"{folder}/project"
    make(data, args.events)
    os.makedirs(out, exist_ok=True)
    broker = None
    if args.topics:
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        broker = subprocess.Popen([sluice, "stand-in", "broker", "--listen", ADDRESS, "--output", "json"], **quiet)
        time.sleep(0.5)
        settle(project, data, True)
        for name, key in (("passages", "passage_id"), ("tolls", "toll_id")):
            with open(f"{data}/{name}.jsonl") as lines:
                subprocess.run([sluice, "emit", "-", "--into", f"source:{name}", "--partitions", "4", "--key", key],
                               stdin=lines, cwd=project, check=True, **quiet)
    try:
        seconds, peaks = {"sluice": [], "duckdb": []}, {"sluice": 0, "duckdb": 0}
        runs = {"sluice": [sluice, "run", "passages", "--until-caught-up"],
                "duckdb": [sys.executable, "-c", DUCKDB.format(data=data, out=out)]}
        for _ in range(args.rounds):
            settle(project, data, args.topics)
            for name, command in runs.items():
                took, peak = timed(command, project)
                seconds[name].append(took)
                peaks[name] = max(peaks[name], peak)
    finally:
        if broker:
            broker.kill()
    for name in runs:
        took = statistics.median(seconds[name])
        print(f"{name:8} {took:6.2f} s  {2 * args.events / took:12,.0f} events/s  {peaks[name]:6.0f} MiB at most")
    ratios = [a / b for a, b in zip(seconds["sluice"], seconds["duckdb"])]
    print(f"sluice takes {statistics.median(ratios):.2f} of duckdb's time (median of the ratios)")
    if args.verify:
        verify(project, out)


main()
