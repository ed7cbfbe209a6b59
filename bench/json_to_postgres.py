#!/usr/bin/env python3
"""JSON Lines to a table of PostgreSQL: sluice beside the server's own bulk path, in one run on the same machine.

A million rows of 8 columns. `append` is compared with psql's \\copy of the same rows from a CSV that was prepared before;
`upsert` with \\copy into a staging table and one INSERT ... ON CONFLICT from there. Rounds alternate; medians of ratios
are compared. With --verify the table that sluice filled is compared with the one that \\copy filled, row by row.

    scripts/services run python3 bench/json_to_postgres.py --sluice target/release/sluice
"""
import argparse
import csv
import json
import os
import random
import resource
import shutil
import statistics
import subprocess
import tempfile
import time

COLUMNS = """passage_id text not null, lock_id text not null, vessel_no text, passed_at timestamptz not null,
draught_cm integer, toll numeric(8,2), cargo_t double precision, note text"""
NAMES = ["passage_id", "lock_id", "vessel_no", "passed_at", "draught_cm", "toll", "cargo_t", "note"]

PIPELINE = '''pipeline = "{name}"
batch = {{ rows = 100_000 }}
[event.passage]
fields = """
passage_id text not null, lock_id text not null, vessel_no text, passed_at timestamptz not null,
draught_cm integer, toll decimal(8,2), cargo_t double precision, note text
"""
[event.passage.arrives]
at = "depots"
match = "*.jsonl"
[event.passage.lands.store]
at = "toll"
table = "{table}"
{more}
'''


def rows(count):
    rng = random.Random(7)
    for i in range(count):
        second = i % 86400
        yield (f"P{i:09d}", f"LOCK-{rng.randrange(64):02d}", f"TV{rng.randrange(99999):05d}",
               f"2026-03-{1 + i % 28:02d}T{second // 3600:02d}:{second // 60 % 60:02d}:{second % 60:02d}.{i % 1000:03d}Z",
               rng.randrange(40, 260), f"{rng.randrange(200)}.{rng.randrange(100):02d}", round(rng.random() * 400, 3),
               rng.choice(["low water at the sill", "gate held for \"Marrow\"", "none, in pencil", ""]))


def prepare(folder, count):
    os.makedirs(folder + "/depots", exist_ok=True)
    with open(folder + "/rows.csv", "w", newline="") as table, open(folder + "/depots/a.jsonl", "w") as events:
        writer = csv.writer(table, quoting=csv.QUOTE_NONNUMERIC)
        for row in rows(count):
            writer.writerow(row)
            event = dict(zip(NAMES, row))
            event["toll"] = float(event["toll"])
            events.write(json.dumps(event, ensure_ascii=False) + "\n")


def psql(url, *commands):
    args = ["psql", "-q", "-v", "ON_ERROR_STOP=1", url]
    for command in commands:
        args += ["-c", command]
    return subprocess.run(args, check=True, capture_output=True, text=True).stdout


def timed(work):
    started = time.monotonic()
    work()
    return time.monotonic() - started


def sluice(program, project, pipeline):
    for own in [".sluice", "rejects"]:
        shutil.rmtree(f"{project}/{own}", ignore_errors=True)
    result = subprocess.run([program, "--project", project, "--output", "json", "run", pipeline, "--until-caught-up"],
                            capture_output=True, text=True)
    if result.returncode != 0:
        raise SystemExit(result.stderr)
    return json.loads(result.stdout)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--only", choices=["append", "upsert"])
    parser.add_argument("--verify", action="store_true")
    args = parser.parse_args()
    url = os.environ["SLUICE_TEST_POSTGRES"]
    folder = tempfile.mkdtemp(prefix="bench")
    prepare(folder, args.rows)
    address = url.split("@")[1]
    with open(folder + "/sluice.toml", "w") as out:
        out.write(f'[project]\nname = "bench"\n[connection.depots]\nurl = "file:depots"\n'
                  f'[connection.toll]\nurl = "postgres://{address}"\nuser = "sluice"\n')
    os.makedirs(folder + "/pipelines")
    keyed = 'mode = "upsert"\nkey = "passage_id"\nversion = "passed_at"'
    for name, more in [("append", ""), ("upsert", keyed)]:
        with open(f"{folder}/pipelines/{name}.toml", "w") as out:
            out.write(PIPELINE.format(name=name, table=f"bench_{name}", more=more))
    names = ", ".join(NAMES)
    sets = ", ".join(f"{n} = excluded.{n}" for n in NAMES[1:])
    reference = {
        "append": lambda: psql(url, f"\\copy bench_reference from '{folder}/rows.csv' with (format csv)"),
        "upsert": lambda: psql(
            url, "begin", "create temp table staged (like bench_reference)",
            f"\\copy staged from '{folder}/rows.csv' with (format csv)",
            f"insert into bench_reference ({names}) select {names} from staged on conflict (passage_id) do update set {sets}",
            "commit"),
    }
    for kind in [args.only] if args.only else ["append", "upsert"]:
        key = ", primary key (passage_id)" if kind == "upsert" else ""
        ratios, rates, theirs = [], [], []
        for number in range(args.rounds):
            for table in [f"bench_{kind}", "bench_reference"]:
                psql(url, f"drop table if exists {table}", f"create table {table} ({COLUMNS}{key})")
            for table in ["sluice_batch", "sluice_lane", "sluice_refused"]:
                psql(url, f"drop table if exists {table}")
            runs = [lambda: timed(lambda: sluice(args.sluice, folder, kind)), lambda: timed(reference[kind])]
            psql(url, "checkpoint")
            first = runs[number % 2]()
            psql(url, "checkpoint")
            second = runs[1 - number % 2]()
            ours, other = (first, second) if number % 2 == 0 else (second, first)
            ratios.append(other / ours)
            rates.append(args.rows / ours)
            theirs.append(args.rows / other)
            print(f"{kind} round {number + 1}: sluice {ours:.2f} s, the server's own path {other:.2f} s, pace {other / ours:.2f}", flush=True)
        print(f"{kind}: {statistics.median(rates):,.0f} rows/s beside {statistics.median(theirs):,.0f}; "
              f"median of paces {statistics.median(ratios):.2f}")
        if args.verify:
            a, b = f"bench_{kind}", "bench_reference"
            found = psql(url, f"select (select count(*) from {a}), (select count(*) from (table {a} except all table {b}) x)")
            print(f"{kind}: rows, and rows that differ from the server's own:", " ".join(found.split("\n")[2].split("|")))
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"largest process: {peak:.0f} MiB")
    shutil.rmtree(folder)


if __name__ == "__main__":
    main()
