#!/usr/bin/env python3
"""How long commands take beside a ledger of a million batches.

Runs a pipeline over one small file, adds batches to its ledger as runs would have sealed them, and times each command: the
median of several rounds.

    python3 bench/history.py --sluice target/release/sluice --batches 1000000
"""
import argparse
import json
import os
import shutil
import sqlite3
import statistics
import subprocess
import time

PROJECT = """[project]
name = "tarrow"
[connection.depots]
url = "file:depots"
[connection.archive]
url = "file:archive"
"""

PIPELINE = """pipeline = "weighings"
[event.weighing]
fields = "ticket text not null, gross_kg integer not null"
[event.weighing.arrives]
at    = "depots"
match = "*.jsonl"
[event.weighing.lands.archive]
at   = "archive"
path = "weighings"
"""

COMMANDS = [
    [],
    ["status", "weighings"],
    ["ledger", "weighings", "--show", "20"],
    ["ledger", "weighings", "--by", "hour"],
    ["ledger", "weighings", "--by", "day"],
    ["ledger", "weighings", "--slowest", "5"],
    ["ledger", "weighings", "--largest", "5"],
    ["ledger", "weighings", "--batch", "1000"],
    ["ledger", "weighings", "--failures"],
    ["positions", "weighings"],
    ["draw", "weighings"],
    ["run", "weighings", "--until-caught-up"],
]


def write(path, text):
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w") as file:
        file.write(text)


def add_batches(ledger, count):
    """Batches a second apart, the last one now."""
    db = sqlite3.connect(ledger)
    name = "weighings"
    lane, texts, last = db.execute(
        "select lane, text, number from batch where pipeline = ? order by number desc limit 1", (name,)
    ).fetchone()
    opened = db.execute("select opened from ledger").fetchone()[0]
    start = int(time.time() * 1e6) - count * 1_000_000
    for k in range(1, count + 1):
        at = start + k * 1_000_000
        took = 300_000 + k * 7919 % 500_000
        db.execute(
            "insert into batch (pipeline, lane, number, state, opened_at, sealed_at, settled_at, read, bytes, rejected, text, opened)"
            " values (?, ?, ?, 'settled', ?, ?, ?, 100, ?, 0, ?, ?)",
            (name, lane, last + k, at, at + took // 2, at + took, 6000 + k % 9999, texts, opened + k),
        )
        db.execute(
            "insert into batch_landing (pipeline, lane, number, place, landing, rows, bytes, work, landed_at)"
            " values (?, ?, ?, 0, 'weighing.archive', 100, 900, 'null', ?)",
            (name, lane, last + k, at + took),
        )
    db.execute("update ledger set opened = ?", (opened + count,))
    db.commit()
    db.close()


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="/tmp/sluice-history")
    parser.add_argument("--batches", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    args = parser.parse_args()
    sluice = os.path.abspath(args.sluice)
    shutil.rmtree(args.folder, ignore_errors=True)
    write(f"{args.folder}/sluice.toml", PROJECT)
    write(f"{args.folder}/pipelines/weighings.toml", PIPELINE)
    rows = "".join(json.dumps({"ticket": f"T{n:06}", "gross_kg": n}) + "\n" for n in range(1000))
    write(f"{args.folder}/depots/a.jsonl", rows)
    run = ["run", "weighings", "--until-caught-up", "--log", "off"]
    subprocess.run([sluice, *run], cwd=args.folder, check=True, stdout=subprocess.DEVNULL)
    started = time.time()
    add_batches(f"{args.folder}/.sluice/ledger.db", args.batches)
    print(f"{args.batches:,} batches added in {time.time() - started:.0f} s")
    for command in COMMANDS:
        times = []
        for _ in range(args.rounds):
            started = time.time()
            subprocess.run([sluice, *command], cwd=args.folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
            times.append(time.time() - started)
        print(f"{statistics.median(times) * 1000:8.0f} ms  sluice {' '.join(command)}")


if __name__ == "__main__":
    main()
