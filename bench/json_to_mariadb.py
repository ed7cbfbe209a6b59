#!/usr/bin/env python3
"""JSON Lines to a table of MariaDB: sluice, which sends INSERTs of many rows, beside LOAD DATA LOCAL of the same rows from a
prepared CSV, in one run on the same machine. The rows are those of json_to_postgres.py.

    scripts/services run python3 bench/json_to_mariadb.py --sluice target/release/sluice
"""
import argparse
import os
import shutil
import statistics
import subprocess
import tempfile

from json_to_postgres import NAMES, PIPELINE, prepare, sluice, timed

COLUMNS = """passage_id varchar(20) not null, lock_id varchar(20) not null, vessel_no varchar(20), passed_at datetime(6) not null,
draught_cm integer, toll decimal(8,2), cargo_t double, note text"""


def mariadb(address, *commands):
    host, port = address.split(":")
    args = ["mariadb", "--no-defaults", "--local-infile=1", "-h", host, "-P", port, "-u", "sluice", "tarrow", "-N", "-B"]
    return subprocess.run(args, input=";\n".join(commands), check=True, capture_output=True, text=True).stdout


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    args = parser.parse_args()
    address = os.environ["SLUICE_TEST_MARIADB"]
    folder = tempfile.mkdtemp(prefix="bench")
    prepare(folder, args.rows)
    with open(folder + "/sluice.toml", "w") as out:
        out.write(f'[project]\nname = "bench"\n[connection.depots]\nurl = "file:depots"\n'
                  f'[connection.toll]\nurl = "mariadb://{address}/tarrow"\nuser = "sluice"\n')
    os.makedirs(folder + "/pipelines")
    with open(folder + "/pipelines/append.toml", "w") as out:
        out.write(PIPELINE.format(name="append", table="bench_append", more=""))
    names = ", ".join(NAMES).replace("passed_at", "@at")
    load = (f"load data local infile '{folder}/rows.csv' into table bench_reference fields terminated by ',' "
            f"optionally enclosed by '\"' escaped by '' lines terminated by '\\r\\n' ({names}) set passed_at = replace(replace(@at, 'T', ' '), 'Z', '')")
    ratios, rates, theirs = [], [], []
    for number in range(args.rounds):
        for table in ["bench_append", "bench_reference"]:
            mariadb(address, f"drop table if exists {table}", f"create table {table} ({COLUMNS}) engine = InnoDB")
        mariadb(address, *[f"drop table if exists {table}" for table in ["sluice_batch", "sluice_lane", "sluice_refused"]])
        runs = [lambda: timed(lambda: sluice(args.sluice, folder, "append")), lambda: timed(lambda: mariadb(address, load))]
        first, second = runs[number % 2](), runs[1 - number % 2]()
        ours, other = (first, second) if number % 2 == 0 else (second, first)
        ratios.append(other / ours)
        rates.append(args.rows / ours)
        theirs.append(args.rows / other)
        print(f"round {number + 1}: sluice {ours:.2f} s, LOAD DATA LOCAL {other:.2f} s, pace {other / ours:.2f}", flush=True)
    count = mariadb(address, "select count(*), (select count(*) from bench_reference) from bench_append").strip()
    print(f"{statistics.median(rates):,.0f} rows/s beside {statistics.median(theirs):,.0f}; median of paces "
          f"{statistics.median(ratios):.2f}; rows {count}")
    shutil.rmtree(folder)


main()
