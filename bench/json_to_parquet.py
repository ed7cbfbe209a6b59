#!/usr/bin/env python3
"""JSON Lines to Parquet: sluice beside general-purpose engines, in one run on the same machine.

Eight columns with a timestamp, a lower() and a filter that keeps 70 %. Each round runs every engine once, in turn, each
in a process of its own; medians over the rounds are compared. With --verify the rows and checksums of what sluice
landed are compared with what duckdb computes from the source.

    pip install -r bench/requirements.txt
    python3 bench/json_to_parquet.py --sluice target/release/sluice
"""
import argparse
import json
import os
import shutil
import statistics
import subprocess
import sys
import time

from peak import Peak

HERE = os.path.dirname(os.path.abspath(__file__))

PIPELINE = '''pipeline = "passages"
[event.passage]
fields = """
passage_id text not null, lock_id text not null, vessel_no text, passed_at timestamptz not null,
draught_cm integer, toll decimal(8,2), cargo_kind text from 'cargo.kind', cargo_t double precision from 'cargo.tonnes',
skipper text, note text
"""
[event.passage.arrives]
at = "source"
match = "*.jsonl"
[event.passage.lands.archive]
at = "archive"
format = "parquet"
when = "draught_cm >= 106"
columns = "passage_id, lower(lock_id) as lock_id, passed_at, draught_cm, toll, lower(cargo_kind) as cargo_kind, skipper, note"
'''

DUCKDB_SELECT = """select passage_id, lower(lock_id) lock_id, passed_at::timestamp passed_at, draught_cm,
  toll::decimal(8,2) toll, lower(cargo.kind) cargo_kind, skipper, note
from read_json('{data}/*.jsonl', format='newline_delimited', columns={{passage_id:'varchar',lock_id:'varchar',
  passed_at:'varchar',draught_cm:'integer',toll:'decimal(8,2)',skipper:'varchar',note:'varchar',
  cargo:'struct(kind varchar)'}}) where draught_cm >= 106"""

DUCKDB = """
import duckdb
c = duckdb.connect(config={{'threads': 2}})
c.execute(\"\"\"copy ({select}) to '{out}/duckdb.parquet' (format parquet, compression zstd, compression_level 1)\"\"\")
"""

POLARS = """
import os
os.environ['POLARS_MAX_THREADS'] = '2'
import polars as pl
schema = {{'passage_id': pl.String, 'lock_id': pl.String, 'vessel_no': pl.String, 'passed_at': pl.String,
  'draught_cm': pl.Int32, 'toll': pl.Float64, 'skipper': pl.String,
  'cargo': pl.Struct({{'kind': pl.String, 'tonnes': pl.Float64}}), 'gauges': pl.List(pl.Int64), 'note': pl.String}}
(pl.scan_ndjson('{data}/*.jsonl', schema=schema).filter(pl.col('draught_cm') >= 106)
 .select('passage_id', pl.col('lock_id').str.to_lowercase(), pl.col('passed_at').str.to_datetime('%Y-%m-%dT%H:%M:%S%.fZ'),
   'draught_cm', pl.col('toll').cast(pl.Decimal(8, 2)), pl.col('cargo').struct.field('kind').str.to_lowercase().alias('cargo_kind'),
   'skipper', 'note')
 .sink_parquet('{out}/polars.parquet', compression='zstd', compression_level=1))
"""

PYARROW = """
import glob
import pyarrow as pa, pyarrow.json as pj, pyarrow.compute as pc, pyarrow.parquet as pq
pa.set_cpu_count(2)
schema = pa.schema([('passage_id', pa.string()), ('lock_id', pa.string()), ('passed_at', pa.timestamp('us')),
  ('draught_cm', pa.int32()), ('toll', pa.float64()), ('cargo', pa.struct([('kind', pa.string())])),
  ('skipper', pa.string()), ('note', pa.string())])
writer = None
for path in sorted(glob.glob('{data}/*.jsonl')):
    t = pj.read_json(path, read_options=pj.ReadOptions(block_size=8 << 20),
        parse_options=pj.ParseOptions(explicit_schema=schema, unexpected_field_behavior='ignore'))
    t = t.filter(pc.greater_equal(t['draught_cm'], 106))
    t = pa.table({{'passage_id': t['passage_id'], 'lock_id': pc.utf8_lower(t['lock_id']), 'passed_at': t['passed_at'],
      'draught_cm': t['draught_cm'], 'toll': pc.round(t['toll'], 2).cast(pa.decimal128(10, 2), safe=False),
      'cargo_kind': pc.utf8_lower(pc.struct_field(t['cargo'], 'kind')), 'skipper': t['skipper'], 'note': t['note']}})
    writer = writer or pq.ParquetWriter('{out}/pyarrow.parquet', t.schema, compression='zstd', compression_level=1)
    writer.write_table(t)
writer.close()
"""


def timed(command, cwd):
    """Runs a command; gives seconds and peak memory in MiB."""
    start = time.perf_counter()
    child = subprocess.Popen(command, cwd=cwd, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    peak = Peak(child.pid)
    out, err = child.communicate()
    status, seconds = child.returncode, time.perf_counter() - start
    if status != 0:
        sys.exit(f"{command[:2]} failed:\n{out.decode()}\n{err.decode()}")
    return seconds, peak.mib()


def lay_out_project(folder, data, pipeline=PIPELINE):
    shutil.rmtree(folder, ignore_errors=True)
    os.makedirs(f"{folder}/pipelines")
    with open(f"{folder}/sluice.toml", "w") as out:
        out.write(f'[project]\nname = "bench"\n[connection.source]\nurl = "file:{data}"\n[connection.archive]\nurl = "file:archive"\n')
    with open(f"{folder}/pipelines/passages.toml", "w") as out:
        out.write(pipeline)


def verify(project, data):
    """Compares counts and checksums with duckdb's own reading of the source."""
    import duckdb

    c = duckdb.connect(config={"threads": 2})
    c.execute("set timezone = 'UTC'")
    sums = """select count(*) s_n, sum(hash(passage_id)) s_id, sum(hash(lock_id)) s_lock, sum(epoch_us(passed_at)::hugeint) s_at,
      sum(draught_cm) s_draught, sum(toll) s_toll, sum(hash(cargo_kind)) s_cargo, sum(hash(skipper)) s_skipper, sum(hash(note)) s_note"""
    theirs = c.execute(f"{sums} from ({DUCKDB_SELECT.format(data=data)})").fetchone()
    ours = c.execute(f"{sums} from read_parquet('{project}/archive/**/*.parquet')").fetchone()
    print("source by duckdb:", theirs)
    print("landed by sluice:", ours)
    if theirs != ours:
        sys.exit("they differ")
    print("equal: counts and checksums of all 8 columns")


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sluice", default=os.path.join(HERE, "..", "target", "release", "sluice"))
    parser.add_argument("--data", default=os.path.join(HERE, "data", "passages"))
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--engines", default="sluice,duckdb,polars,pyarrow")
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    data, sluice = os.path.abspath(args.data), os.path.abspath(args.sluice)
    if not os.path.isdir(data):
        subprocess.run([sys.executable, os.path.join(HERE, "make_events.py"), data], check=True)
    size = sum(os.path.getsize(os.path.join(data, f)) for f in os.listdir(data))
    work = os.path.join(HERE, "data", "work")
    os.makedirs(work, exist_ok=True)
    project = os.path.join(work, "project")
    select = DUCKDB_SELECT.format(data=data)
    commands = {
        "sluice": [sluice, "run", "passages", "--until-caught-up"],
        "duckdb": [sys.executable, "-c", DUCKDB.format(select=select, out=work)],
        "polars": [sys.executable, "-c", POLARS.format(data=data, out=work)],
        "pyarrow": [sys.executable, "-c", PYARROW.format(data=data, out=work)],
    }
    results = {name: [] for name in args.engines.split(",")}
    for _ in range(args.rounds):
        for name, runs in results.items():
            if name == "sluice":
                lay_out_project(project, data)
            runs.append(timed(commands[name], project if name == "sluice" else work))
    print(f"{size / 1e9:.2f} GB of JSON Lines, {args.rounds} rounds, medians")
    for name, runs in results.items():
        seconds = statistics.median(r[0] for r in runs)
        line = f"  {name:8} {seconds:7.2f} s  {size / seconds / 1e6:7.0f} MB/s  peak {max(r[1] for r in runs):6.0f} MiB"
        if name != "sluice" and "sluice" in results:
            ratio = statistics.median(s[0] / r[0] for s, r in zip(results["sluice"], runs))
            line += f"  sluice takes {ratio:.2f} of its time"
        print(line)
    with open(os.path.join(HERE, "results.json"), "w") as out:
        json.dump({"bytes": size, "runs": results}, out)
    if args.verify:
        verify(project, data)


if __name__ == "__main__":
    main()
