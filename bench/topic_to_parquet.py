#!/usr/bin/env python3
"""A million events of about 300 bytes in 8 partitions of a topic into Parquet, beside the client library alone.

Each round consumes the topic twice: once by the client library alone, from Rust as in sluice, to nothing; once by sluice
into Parquet with contract, filter and ledger. A broker that does not keep to the size of a fetch that is asked for fills
memory; the stand-in does keep to it (--stand-in). What is compared is the ratio within a round: timings of this machine are noisy.

    cargo build --release && cargo build --release -p sluice-connect --example consume
    scripts/services run python3 bench/topic_to_parquet.py --rounds 5 --verify
"""

import argparse
import json
import os
import shutil
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SLUICE = ROOT / "target" / "release" / "sluice"
CONSUME = ROOT / "target" / "release" / "examples" / "consume"

PIPELINE = """
pipeline = "passages"
batch = {{ rows = 250_000, every = "1h" }}
[event.passage]
time = "passed_at"
fields = '''
passage_id text not null, lock_id text not null, vessel_no text, passed_at timestamptz not null,
draught_cm integer, toll decimal(12,2), skipper text, cargo_kind text from 'cargo.kind',
cargo_tonnes decimal(12,3) from 'cargo.tonnes', remark text
'''
[event.passage.arrives]
at = "lock-broker"
topic = "{topic}"
format = "json"
[event.passage.lands.archive]
at = "archive"
path = "passages"
columns = '''
passage_id, lock_id, vessel_no, passed_at, cast(draught_cm as decimal(6,2)) / 100 as draught_m, toll, skipper, cargo_kind,
cargo_tonnes, origin.partition as part, origin.offset as place
'''
"""


def measured(command, **options):
    """Runs a command; gives its output, seconds, and peak memory in MiB."""
    report = tempfile.NamedTemporaryFile()
    started = time.monotonic()
    done = subprocess.run(["/usr/bin/time", "-f", "%M", "-o", report.name, *map(str, command)], check=True,
                          capture_output=True, text=True, **options)
    peak = int(Path(report.name).read_text().split()[-1]) / 1024
    return done.stdout, time.monotonic() - started, peak


def project(address, topic):
    folder = Path(tempfile.mkdtemp())
    (folder / "sluice.toml").write_text(
        f'[project]\nname = "bench"\n[connection.lock-broker]\nurl = "kafka://{address}"\n'
        '[connection.archive]\nurl = "file:archive"\n')
    (folder / "pipelines").mkdir()
    (folder / "pipelines" / "passages.toml").write_text(PIPELINE.format(topic=topic))
    return folder


def fill(address, topic, events, partitions, padding):
    """Sends seeded events, each with a remark so that it has about 300 bytes."""
    folder = project(address, topic)
    lines = subprocess.Popen([SLUICE, "emit", "passages", "--count", str(events), "--seed", "7", "--starting", "2026-04-01"],
                             stdout=subprocess.PIPE, cwd=folder, stderr=subprocess.DEVNULL)
    pad = subprocess.Popen(["sed", f's/}}$/,"remark":"{"x" * padding}"}}/'], stdin=lines.stdout, stdout=subprocess.PIPE)
    subprocess.run([SLUICE, "emit", "-", "--into", f"lock-broker:{topic}", "--partitions", str(partitions), "--key",
                    "passage_id"], stdin=pad.stdout, cwd=folder, check=True, stderr=subprocess.DEVNULL)
    shutil.rmtree(folder)


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--events", type=int, default=1_000_000)
    parser.add_argument("--partitions", type=int, default=8)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--padding", type=int, default=90)
    parser.add_argument("--stand-in", action="store_true", help="use the stand-in broker")
    parser.add_argument("--verify", action="store_true", help="count what landed with another reader (duckdb)")
    options = parser.parse_args()
    broker = None
    if options.stand_in or "SLUICE_TEST_BROKER" not in os.environ:
        broker = subprocess.Popen([SLUICE, "stand-in", "broker", "--listen", "127.0.0.1:39092", "--output", "json"],
                                  stdout=subprocess.DEVNULL)
        address = "127.0.0.1:39092"
        time.sleep(0.5)
    else:
        address = os.environ["SLUICE_TEST_BROKER"]
    try:
        compare(options, address)
    finally:
        if broker:
            broker.kill()


def compare(options, address):
    topic = f"bench.{os.getpid()}"
    fill(address, topic, options.events, options.partitions, options.padding)
    ratios, peaks = [], []
    for number in range(options.rounds):
        out, _, _ = measured([CONSUME, address, topic, options.partitions, options.events])
        alone, count, size = out.split()
        alone, size = float(alone), int(size)
        folder = project(address, topic)
        out, _, peak = measured([SLUICE, "run", "passages", "--until-caught-up", "--output", "json"], cwd=folder)
        report = json.loads(out)
        assert report["read"] == options.events, report
        ratio = alone / report["seconds"]
        ratios.append(ratio)
        peaks.append(peak)
        print(f"round {number + 1}: library alone {alone:.2f} s, sluice {report['seconds']:.2f} s "
              f"({report['read'] / report['seconds']:,.0f} events/s, {size / report['seconds'] / 2**20:.0f} MiB/s), "
              f"pace {ratio:.2f} of the library's, peak {peak:.0f} MiB", flush=True)
        if options.verify and number == 0:
            verify(folder, options.events)
        shutil.rmtree(folder)
    print(f"{int(count):,} events of {size / int(count):.0f} bytes; pace, median of ratios: "
          f"{statistics.median(ratios):.2f}; peak {max(peaks):.0f} MiB")


def verify(folder, events):
    import duckdb

    files = f"{folder}/archive/passages/*.parquet"
    found = duckdb.sql(f"select count(*), count(distinct passage_id), count(distinct part::bigint * 1000000000 + place) from '{files}'").fetchall()[0]
    assert found == (events, events, events), found
    print(f"verified with duckdb: {found[0]:,} rows, all different")


if __name__ == "__main__":
    main()
