#!/usr/bin/env python3
"""Parquet, Arrow IPC and Avro as other libraries write them: every value that lands is compared with what they wrote.

Files of several types are written by pyarrow and fastavro, in each packing that sluice reads; each is drafted and run, and what
landed is compared value by value. With --rounds the largest Parquet file is also read into Parquet by sluice and by duckdb, in turn.

    pip install -r bench/requirements.txt
    python3 bench/formats.py --sluice target/release/sluice
"""
import argparse
import datetime as dt
import decimal
import glob
import json
import os
import statistics
import struct
import subprocess
import sys
import tempfile
import time
import uuid

import fastavro
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq

UTC = dt.timezone.utc
START = dt.datetime(2026, 7, 1)


def table(rows):
    """Rows of most types that Arrow has."""
    n = range(rows)
    money = decimal.Decimal
    return pa.table({
        "passage": pa.array(n, pa.int64()),
        "lock": pa.array([["upper", "lower", None, "閘門"][i % 4] for i in n]).dictionary_encode(),
        "level": pa.array([0.1 * i for i in n], pa.float32()),
        "fee": pa.array([money(i) / 100 for i in n], pa.decimal128(12, 2)),
        "at": pa.array([START.replace(tzinfo=UTC) + dt.timedelta(seconds=i, microseconds=i) for i in n], pa.timestamp("us", "UTC")),
        "local": pa.array([START + dt.timedelta(seconds=i) for i in n], pa.timestamp("ms")),
        "day": pa.array([START.date()] * rows),
        "tags": pa.array([[["a", None], [], None, ["x"]][i % 4] for i in n], pa.list_(pa.string())),
        "ship": pa.array([[{"name": "Alder", "draught": 1.5}, None, {"name": None, "draught": 2.25}][i % 3] for i in n]),
        "hash": pa.array([[b"\x00\x01", None][i % 2] for i in n]),
        "clock": pa.array([dt.time(1, 2, 3, 5000)] * rows, pa.time64("us")),
        "large": pa.array([2**64 - 1] * rows, pa.uint64()),
    })


AVRO = {"type": "record", "name": "Passage", "namespace": "tarrow", "fields": [
    {"name": "passage", "type": "long"}, {"name": "lock", "type": ["null", "string"]}, {"name": "level", "type": "float"},
    {"name": "fee", "type": {"type": "bytes", "logicalType": "decimal", "precision": 12, "scale": 2}},
    {"name": "at", "type": {"type": "long", "logicalType": "timestamp-micros"}},
    {"name": "day", "type": {"type": "int", "logicalType": "date"}},
    {"name": "kind", "type": {"type": "enum", "name": "Kind", "symbols": ["salt", "grain"]}},
    {"name": "tags", "type": {"type": "array", "items": ["null", "string"]}},
    {"name": "labels", "type": {"type": "map", "values": "int"}},
    {"name": "ship", "type": ["null", {"type": "record", "name": "Ship", "fields": [
        {"name": "name", "type": "string"}, {"name": "id", "type": {"type": "string", "logicalType": "uuid"}}]}]},
    {"name": "either", "type": ["null", "int", "string"]}]}


def records(rows):
    """Rows of most types that Avro has."""
    return [{
        "passage": i, "lock": ["upper", None][i % 2], "level": i * 0.5, "fee": decimal.Decimal(i) / 100,
        "at": START.replace(tzinfo=UTC) + dt.timedelta(seconds=i), "day": START.date(), "kind": ["salt", "grain"][i % 2],
        "tags": ["a", None], "labels": {"x": i % 100}, "ship": [None, {"name": "Alder", "id": uuid.UUID(int=i)}][i % 2],
        "either": [None, i, "t"][i % 3],
    } for i in range(rows)]


def run(sluice, project, *arguments):
    done = subprocess.run([sluice, *arguments], cwd=project, capture_output=True, text=True)
    if done.returncode:
        sys.exit(f"sluice {' '.join(arguments)}: {done.stdout}{done.stderr}")


def landed(project, name):
    files = sorted(glob.glob(f"{project}/archive/{name}/**/*.parquet", recursive=True))
    return pa.concat_tables([pq.read_table(f) for f in files]).sort_by("passage").to_pylist()


def single(value):
    return None if value is None else struct.unpack("f", struct.pack("f", value))[0]


def as_json(value):
    return None if value is None else json.loads(value)


def compare(name, wrote, got, rules):
    """`rules` give for each column how what was written and what landed are made alike."""
    assert len(wrote) == len(got), (name, len(wrote), len(got))
    values = 0
    for before, after in zip(wrote, got):
        for column, (of_before, of_after) in rules.items():
            left, right = of_before(before), of_after(after)
            assert left == right, f"{name}: {column} of {before['passage']}: {left!r} landed as {right!r}"
            values += 1
    print(f"  {name:<18} {len(got):>7,} rows {values:>9,} values equal")


def same(column):
    return lambda row: row[column], lambda row: row[column]


ARROW_RULES = {c: same(c) for c in ["passage", "lock", "fee", "at", "day"]} | {
    "level": (lambda r: r["level"], lambda r: single(r["level"])),
    "local": (lambda r: r["local"], lambda r: r["local"].replace(tzinfo=None)),
    "tags": (lambda r: r["tags"], lambda r: as_json(r["tags"])),
    "ship.name": (lambda r: (r["ship"] or {}).get("name"), lambda r: r["ship_name"]),
    "ship.draught": (lambda r: (r["ship"] or {}).get("draught"), lambda r: r["ship_draught"]),
    "hash": (lambda r: None if r["hash"] is None else "\\x" + r["hash"].hex(), lambda r: r["hash"]),
    "clock": (lambda r: str(r["clock"]).rstrip("0"), lambda r: r["clock"]),
    "large": (lambda r: r["large"], lambda r: int(r["large"])),
}
AVRO_RULES = {c: same(c) for c in ["passage", "lock", "level", "fee", "at", "day", "kind"]} | {
    "tags": (lambda r: r["tags"], lambda r: json.loads(r["tags"])),
    "labels": (lambda r: r["labels"], lambda r: json.loads(r["labels"])),
    "ship.name": (lambda r: (r["ship"] or {}).get("name"), lambda r: r["ship_name"]),
    "ship.id": (lambda r: str(r["ship"]["id"]) if r["ship"] else None, lambda r: r["ship_id"]),
    "either": (lambda r: r["either"], lambda r: as_json(r["either"])),
}


def files(folder, rows):
    """Writes each file; gives its name and its rules."""
    wrote = table(rows)
    for packing in ["none", "snappy", "gzip", "zstd", "lz4"]:
        pq.write_table(wrote, f"{folder}/{packing}.parquet", compression=packing, row_group_size=3000)
        yield f"{packing}.parquet", wrote.to_pylist(), ARROW_RULES
    for packing in ["uncompressed", "lz4", "zstd"]:
        feather.write_feather(wrote, f"{folder}/{packing}.arrow", compression=packing)
        yield f"{packing}.arrow", wrote.to_pylist(), ARROW_RULES
    with pa.OSFile(f"{folder}/stream.arrows", "wb") as out, pa.ipc.new_stream(out, wrote.schema) as writer:
        writer.write_table(wrote, max_chunksize=1000)
    yield "stream.arrows", wrote.to_pylist(), ARROW_RULES
    for packing in ["null", "deflate"]:
        with open(f"{folder}/{packing}.avro", "wb") as out:
            fastavro.writer(out, AVRO, records(rows), codec=packing, sync_interval=20_000)
        with open(f"{folder}/{packing}.avro", "rb") as file:
            yield f"{packing}.avro", list(fastavro.reader(file)), AVRO_RULES


def speed(sluice, folder, project, rows, rounds):
    pq.write_table(table(rows), f"{folder}/large.parquet", compression="snappy")
    run(sluice, project, "draft", "large", "inbox:large.parquet", "--land-in", "archive")
    times = {"sluice": [], "duckdb": []}
    for number in range(rounds):
        for path in ["archive", ".sluice", "rejects"]:
            subprocess.run(["rm", "-rf", f"{project}/{path}"], check=True)
        started = time.perf_counter()
        run(sluice, project, "run", "large", "--until-caught-up")
        times["sluice"].append(time.perf_counter() - started)
        copy = f"copy (select * from '{folder}/large.parquet') to '{project}/out.parquet' (format parquet, compression zstd)"
        started = time.perf_counter()
        subprocess.run([sys.executable, "-c", f"import duckdb; duckdb.connect(config={{'threads': 2}}).execute({copy!r})"], check=True)
        times["duckdb"].append(time.perf_counter() - started)
    for name, all_times in times.items():
        print(f"  {name:<8} {rows / statistics.median(all_times):>12,.0f} rows/s, median of {rounds}")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--rows", type=int, default=20_000)
    parser.add_argument("--rounds", type=int, default=0)
    arguments = parser.parse_args()
    sluice = os.path.abspath(arguments.sluice)
    with tempfile.TemporaryDirectory() as project:
        folder = f"{project}/in"
        os.mkdir(folder)
        os.mkdir(f"{project}/archive")
        with open(f"{project}/sluice.toml", "w") as out:
            out.write('project = { name = "formats" }\n[connection.inbox]\nurl = "file:in"\n[connection.archive]\nurl = "file:archive"\n')
        for name, wrote, rules in files(folder, arguments.rows):
            pipeline = name.replace(".", "_")
            run(sluice, project, "draft", pipeline, f"inbox:{name}", "--land-in", "archive")
            run(sluice, project, "run", pipeline, "--until-caught-up")
            compare(name, wrote, landed(project, pipeline), rules)
        if arguments.rounds:
            speed(sluice, folder, project, arguments.rows * 50, arguments.rounds)


if __name__ == "__main__":
    main()
