#!/usr/bin/env python3
"""CSV to Parquet: sluice beside duckdb, in one run on the same machine; and the pace of the authoring loop.

The CSV is made from the events of make_events.py. Each round runs both once, in turn; medians are compared. With
--verify counts and checksums of what landed are compared with what duckdb computes from the source. Then `check`, `draft`
and `rehearse --follow` are timed.

    python3 bench/csv_to_parquet.py --verify
"""
import argparse
import os
import statistics
import subprocess
import sys
import threading
import time

from json_to_parquet import HERE, lay_out_project, timed

PIPELINE = '''pipeline = "passages"
[event.passage]
fields = """
passage_id text not null, lock_id text not null, vessel_no text, passed_at timestamptz not null,
draught_cm integer, toll decimal(8,2), cargo_kind text, skipper text, note text
"""
[event.passage.arrives]
at = "source"
match = "*.csv"
format = "csv"
[event.passage.lands.archive]
at = "archive"
when = "draught_cm >= 106"
columns = "passage_id, lower(lock_id) as lock_id, passed_at, draught_cm, toll, lower(cargo_kind) as cargo_kind, skipper, note"
'''

SELECT = """select passage_id, lower(lock_id) lock_id, passed_at::timestamp passed_at, draught_cm, toll,
  lower(cargo_kind) cargo_kind, skipper, note from read_csv('{data}/*.csv', header=true, quote='"', escape='"', columns={{
  'passage_id':'varchar','lock_id':'varchar','vessel_no':'varchar','passed_at':'varchar','draught_cm':'integer',
  'toll':'decimal(8,2)','cargo_kind':'varchar','skipper':'varchar','note':'varchar'}}) where draught_cm >= 106"""

DUCKDB = """
import duckdb
c = duckdb.connect(config={{'threads': 2}})
c.execute(\"\"\"copy ({select}) to '{out}' (format parquet, compression zstd, compression_level 1)\"\"\")
"""


def make_csv(events, data):
    import duckdb

    os.makedirs(data, exist_ok=True)
    c = duckdb.connect(config={"threads": 2})
    for name in sorted(os.listdir(events)):
        out = os.path.join(data, name.replace(".jsonl", ".csv"))
        c.execute(f"""copy (select passage_id, lock_id, vessel_no, passed_at, draught_cm, toll, cargo.kind as cargo_kind, skipper, note
            from read_json('{events}/{name}', format='newline_delimited', columns={{passage_id:'varchar',lock_id:'varchar',
            vessel_no:'varchar',passed_at:'varchar',draught_cm:'integer',toll:'decimal(8,2)',skipper:'varchar',note:'varchar',
            cargo:'struct(kind varchar)'}})) to '{out}' (format csv, header true)""")


def verify(project, data):
    import duckdb

    c = duckdb.connect(config={"threads": 2})
    c.execute("set timezone = 'UTC'")
    sums = """select count(*), sum(hash(passage_id)), sum(hash(lock_id)), sum(epoch_us(passed_at)::hugeint), sum(draught_cm),
      sum(toll), sum(hash(cargo_kind)), sum(hash(skipper)), sum(hash(coalesce(note, ''))) """
    theirs = c.execute(f"{sums} from ({SELECT.format(data=data)})").fetchone()
    ours = c.execute(f"{sums} from read_parquet('{project}/archive/**/*.parquet')").fetchone()
    if theirs != ours:
        sys.exit(f"they differ:\n{theirs}\n{ours}")
    print(f"equal: counts and checksums of all 8 columns, {theirs[0]:,} rows")


def authoring(sluice, project):
    """Times check and draft, and how soon a saved file is shown again on 10,000 events."""

    def median(command, rounds=7):
        return statistics.median(timed(command, project)[0] for _ in range(rounds))

    print(f"check, 1,000 real events looked at   {median([sluice, 'check']) * 1000:7.0f} ms")
    print(f"check --offline                      {median([sluice, 'check', '--offline']) * 1000:7.0f} ms")
    print(f"draft from 100,000 events            {median([sluice, 'draft', 'x', 'source:*.csv', '--print'], 3) * 1000:7.0f} ms")
    following = subprocess.Popen(
        [sluice, "rehearse", "passages", "--follow", "--events", "10000"], cwd=project, stdout=subprocess.PIPE, text=True)
    lines = []
    threading.Thread(target=lambda: [lines.append((time.perf_counter(), line)) for line in following.stdout], daemon=True).start()

    def wait(text):
        end = time.time() + 30
        while time.time() < end:
            hit = next((at for at, line in lines if text in line), None)
            if hit:
                return hit
            time.sleep(0.002)
        sys.exit(f"rehearse --follow never showed {text}")

    wait("nothing was written")
    took = []
    for draught in range(110, 131):
        path = f"{project}/pipelines/passages.toml"
        text = PIPELINE.replace(">= 106", f">= {draught}")
        lines.clear()
        saved = time.perf_counter()
        with open(path, "w") as out:
            out.write(text)
        took.append(wait(f"draught_cm >= {draught}") - saved)
    following.terminate()
    print(f"save to result, 10,000 events        {statistics.median(took) * 1000:7.0f} ms median, {max(took) * 1000:.0f} ms longest of {len(took)}")


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sluice", default=os.path.join(HERE, "..", "target", "release", "sluice"))
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    sluice = os.path.abspath(args.sluice)
    events, data, work = (os.path.join(HERE, "data", name) for name in ("passages", "csv", "work"))
    if not os.path.isdir(events):
        subprocess.run([sys.executable, os.path.join(HERE, "make_events.py"), events], check=True)
    if not os.path.isdir(data):
        make_csv(events, data)
    os.makedirs(work, exist_ok=True)
    size = sum(os.path.getsize(os.path.join(data, f)) for f in os.listdir(data))
    project = os.path.join(work, "csv-project")
    select = SELECT.format(data=data)
    ratios, ours, theirs, peaks = [], [], [], []
    for _ in range(args.rounds):
        lay_out_project(project, data, PIPELINE)
        seconds, peak = timed([sluice, "run", "passages", "--until-caught-up"], project)
        other, other_peak = timed([sys.executable, "-c", DUCKDB.format(select=select, out=f"{work}/duckdb-csv.parquet")], work)
        ours.append(seconds)
        theirs.append(other)
        ratios.append(seconds / other)
        peaks.append((peak, other_peak))
    print(f"{size / 1e9:.2f} GB of CSV, {args.rounds} rounds, medians")
    print(f"  sluice  {statistics.median(ours):6.2f} s  {size / statistics.median(ours) / 1e6:5.0f} MB/s  peak {max(p[0] for p in peaks):4.0f} MiB")
    print(f"  duckdb  {statistics.median(theirs):6.2f} s  {size / statistics.median(theirs) / 1e6:5.0f} MB/s  peak {max(p[1] for p in peaks):4.0f} MiB"
          f"  sluice takes {statistics.median(ratios):.2f} of its time")
    if args.verify:
        verify(project, data)
    authoring(sluice, project)


if __name__ == "__main__":
    main()
