#!/usr/bin/env python3
"""How long a message takes from its producer to a file, at 1,000 messages a second, and what a run costs at rest.

The broker is the stand-in. Messages carry the moment at which they were sent; a file counts as written when it has its name.

    cargo build --release && scripts/services install
    target/services/python/bin/python bench/topic_latency.py
"""

import argparse
import json
import os
import shutil
import statistics
import subprocess
import tempfile
import threading
import time
from pathlib import Path

from confluent_kafka import Producer

ROOT = Path(__file__).resolve().parent.parent
SLUICE = ROOT / "target" / "release" / "sluice"
ADDRESS = "127.0.0.1:39093"

PIPELINE = """
pipeline = "readings"
batch = {{ every = "{every}" }}
[event.reading]
fields = "sent double precision not null, n bigint not null, remark text"
[event.reading.arrives]
at = "lock-broker"
topic = "bench.readings"
format = "json"
start = "latest"
[event.reading.lands.archive]
at = "archive"
path = "readings"
format = "{format}"
"""


def project(every, file_format):
    folder = Path(tempfile.mkdtemp())
    (folder / "sluice.toml").write_text(
        f'[project]\nname = "bench"\n[connection.lock-broker]\nurl = "kafka://{ADDRESS}"\n'
        '[connection.archive]\nurl = "file:archive"\n')
    (folder / "pipelines").mkdir()
    (folder / "pipelines" / "readings.toml").write_text(PIPELINE.format(every=every, format=file_format))
    return folder


def watch(folder, seen, done):
    """Notes when each file got its name."""
    while not done.is_set():
        for path in folder.glob("archive/readings/*"):
            if not path.name.startswith(".") and path not in seen:
                seen[path] = time.time()
        time.sleep(0.001)


def cpu_seconds(pid):
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def measure(options, every):
    folder = project(every, "jsonl")
    run = subprocess.Popen([SLUICE, "run", "readings"], cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    time.sleep(3)
    before = cpu_seconds(run.pid)
    time.sleep(options.rest)
    at_rest = (cpu_seconds(run.pid) - before) / options.rest
    seen, done = {}, threading.Event()
    watcher = threading.Thread(target=watch, args=(folder, seen, done))
    watcher.start()
    producer = Producer({"bootstrap.servers": ADDRESS, "linger.ms": 0})
    started = time.time()
    for n in range(options.seconds * options.rate):
        pause = started + n / options.rate - time.time()
        if pause > 0:
            time.sleep(pause)
        producer.produce("bench.readings", json.dumps({"sent": time.time(), "n": n, "remark": "x" * 150}))
        producer.poll(0)
    producer.flush(10)
    time.sleep(2)
    run.terminate()
    run.wait(20)
    done.set()
    watcher.join()
    delays = [at - json.loads(line)["sent"] for path, at in seen.items() for line in path.read_text().splitlines()]
    assert len(delays) == options.seconds * options.rate, len(delays)
    delays.sort()
    shutil.rmtree(folder)
    print(f"every = {every}: {len(delays):,} messages; from produce to file: median {statistics.median(delays) * 1e3:.0f} ms, "
          f"99 % within {delays[int(len(delays) * 0.99)] * 1e3:.0f} ms; at rest {at_rest * 100:.2f} % of a core", flush=True)


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=int, default=15)
    parser.add_argument("--rate", type=int, default=1_000)
    parser.add_argument("--rest", type=int, default=20)
    options = parser.parse_args()
    broker = subprocess.Popen([SLUICE, "stand-in", "broker", "--listen", ADDRESS, "--topic", "bench.readings:4"],
                              stdout=subprocess.DEVNULL)
    try:
        time.sleep(0.5)
        for every in ["100ms", "200ms"]:
            measure(options, every)
    finally:
        broker.kill()


if __name__ == "__main__":
    main()
