#!/usr/bin/env python3
"""Change feeds of PostgreSQL beside its own COPY, on one server, in one run.

load    a table of many rows into an empty mirror, beside COPY … TO piped into COPY … FROM of a table with the same key
stream  as many row changes with mostly distinct keys into that mirror, beside COPY of the same rows into a staging table
        and one INSERT … ON CONFLICT
delay   1,000 changes a second with every = "100ms": from the commit at the source to the row in the mirror

Run under scripts/services run; needs target/release/sluice, psql.
"""
import argparse, json, os, shutil, statistics, subprocess, sys, tempfile, time

SLUICE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "target", "release", "sluice")
URL = os.environ.get("SLUICE_TEST_POSTGRES") or sys.exit("SLUICE_TEST_POSTGRES is not set: scripts/services run …")
SERVER = URL.rsplit("/", 1)[0]
COLUMNS = "toll_id, receipt_no, vessel_no, paid_at, amount, method, lock_no, note"

PIPELINE = """
pipeline = "office"
batch = {{ rows = 200_000, every = "{every}" }}

[event.toll]
fields = "toll_id bigint not null, receipt_no text, vessel_no text, paid_at timestamptz, amount decimal(8,2), method text, lock_no integer, note text"

[event.toll.arrives]
at = "office"
table = "toll"

[event.toll.lands.copy]
at = "warehouse"
table = "toll"
mode = "mirror"
key = "toll_id"
create = true
"""


def psql(database, *commands):
    arguments = [a for c in commands for a in ("-c", c)]
    done = subprocess.run(["psql", "-X", "-q", "-At", "-v", "ON_ERROR_STOP=1", f"{SERVER}/{database}", *arguments], capture_output=True, text=True)
    if done.returncode:
        sys.exit(done.stderr)
    return done.stdout.strip()


def timed(work):
    began = time.monotonic()
    work()
    return time.monotonic() - began


def rows(first, count):
    return (f"select i, 'R-' || i, 'TV ' || i % 5000, timestamptz '2026-01-01' + i * interval '1 second', (i % 20000) / 100.0, "
            f"case i % 3 when 0 then 'card' when 1 then 'cash' else 'account' end, i % 40, 'lock ' || i % 40 || ', paid at the window' "
            f"from generate_series({first}, {first + count - 1}) i")


def project(folder, every):
    os.makedirs(f"{folder}/pipelines")
    address = SERVER.split("@")[1]
    with open(f"{folder}/sluice.toml", "w") as file:
        file.write('[project]\nname = "tarrow"\n')
        for name, database in (("office", "bench_office"), ("warehouse", "bench_warehouse")):
            file.write(f'\n[connection.{name}]\nurl = "postgres://{address}/{database}"\nuser = "sluice"\n')
    with open(f"{folder}/pipelines/office.toml", "w") as file:
        file.write(PIPELINE.format(every=every))


def run(folder, *arguments):
    return subprocess.run([SLUICE, "--project", folder, "run", "office", *arguments], check=True, capture_output=True)


def equal():
    sums = [psql(d, f"select count(*), sum(hashtext(({COLUMNS})::text)::bigint) from toll") for d in ("bench_office", "bench_warehouse")]
    assert sums[0] == sums[1], sums


def one_round(count, stream):
    for database in ("bench_office", "bench_warehouse"):
        psql("tarrow", f"drop database if exists {database} with (force)")
        psql("tarrow", f"create database {database}")
    table = "(toll_id bigint primary key, receipt_no text, vessel_no text, paid_at timestamptz, amount numeric(8,2), method text, lock_no integer, note text)"
    psql("bench_office", f"create table toll {table}", f"insert into toll {rows(1, count)}", "vacuum analyze toll", "checkpoint")
    folder = tempfile.mkdtemp()
    project(folder, "10s")
    result = {}
    psql("bench_warehouse", f"create table beside {table}")
    copy = (f"psql -X -q '{SERVER}/bench_office' -c 'copy toll to stdout' | "
            f"psql -X -q '{SERVER}/bench_warehouse' -c 'copy beside from stdin'")
    theirs = lambda: result.__setitem__("copy", timed(lambda: subprocess.run(copy, shell=True, check=True)))
    ours = lambda: result.__setitem__("load", timed(lambda: run(folder, "--until-caught-up")))
    for work in ((theirs, ours) if int(time.time()) % 2 else (ours, theirs)):
        work()
        psql("bench_warehouse", "checkpoint")
    equal()
    # Mostly distinct keys: updates of rows all over, and new ones.
    half = stream // 2
    psql("bench_office", f"update toll set amount = amount + 1, note = note || '!' where toll_id % {max(1, count // half)} = 0 and toll_id <= {half * max(1, count // half)}",
         f"insert into toll {rows(count + 1, half)}")
    changed = f"select {COLUMNS} from toll where note like '%!' or toll_id > {count}"
    file = f"{folder}/changed"
    psql("bench_office", f"\\copy ({changed}) to '{file}'")
    result["changes"] = int(psql("bench_office", f"select count(*) from ({changed}) c"))
    columns = COLUMNS.split(", ")[1:]
    upsert = ("create temporary table staging (like beside)", f"\\copy staging from '{file}'",
              f"insert into beside select * from staging on conflict (toll_id) do update set {', '.join(f'{c} = excluded.{c}' for c in columns)}")
    theirs = lambda: result.__setitem__("upsert", timed(lambda: psql("bench_warehouse", *upsert)))
    ours = lambda: result.__setitem__("stream", timed(lambda: run(folder, "--until-caught-up")))
    for work in ((theirs, ours) if int(time.time()) % 2 else (ours, theirs)):
        work()
        psql("bench_warehouse", "checkpoint")
    equal()
    psql("bench_office", "select pg_drop_replication_slot(slot_name) from pg_replication_slots where database = current_database()")
    shutil.rmtree(folder)
    return result


def delay(seconds):
    for database in ("bench_office", "bench_warehouse"):
        psql("tarrow", f"drop database if exists {database} with (force)")
        psql("tarrow", f"create database {database}")
    psql("bench_office", "create table toll (toll_id bigint primary key, receipt_no text, vessel_no text, paid_at timestamptz, amount numeric(8,2), method text, lock_no integer, note text)")
    folder = tempfile.mkdtemp()
    project(folder, "100ms")
    running = subprocess.Popen([SLUICE, "--project", folder, "run", "office"], stderr=subprocess.DEVNULL)
    time.sleep(3)
    psql("bench_warehouse", "create table seen (toll_id bigint, delay double precision)",
         "create function see() returns trigger language plpgsql as $$ begin insert into seen values (new.toll_id, extract(epoch from clock_timestamp() - new.paid_at)); return null; end $$",
         "create trigger see after insert on toll for each row execute function see()")
    # Ten rows a transaction, a hundred transactions a second.
    feed = subprocess.Popen(["psql", "-X", "-q", f"{SERVER}/bench_office"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, text=True)
    began, number = time.monotonic(), 0
    while time.monotonic() - began < seconds:
        feed.stdin.write(f"insert into toll select i, 'R', 'V', clock_timestamp(), 1, 'cash', 1, 'x' from generate_series({number * 10}, {number * 10 + 9}) i;\n")
        feed.stdin.flush()
        number += 1
        time.sleep(max(0.0, began + number * 0.01 - time.monotonic()))
    feed.stdin.close()
    feed.wait()
    time.sleep(2)
    running.terminate()
    running.wait()
    text = psql("bench_warehouse", "select count(*), percentile_cont(0.5) within group (order by delay), percentile_cont(0.99) within group (order by delay) from seen")
    psql("bench_office", "select pg_drop_replication_slot(slot_name) from pg_replication_slots where database = current_database()")
    shutil.rmtree(folder)
    count, median, most = text.split("|")
    # The trigger runs before the batch is committed; the commit itself is the batch's last few milliseconds.
    return int(count), number * 10, float(median), float(most)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--rows", type=int, default=5_000_000)
    parser.add_argument("--changes", type=int, default=1_000_000)
    parser.add_argument("--delay", type=int, default=10, help="seconds")
    args = parser.parse_args()
    found = []
    for number in range(args.rounds):
        one = one_round(args.rows, args.changes)
        found.append(one)
        print(f"round {number + 1}: load {one['load']:.1f} s beside {one['copy']:.1f} s; {one['changes']:,} changes {one['stream']:.1f} s beside {one['upsert']:.1f} s", flush=True)
    if found:
        median = lambda a, b: statistics.median(one[a] / one[b] for one in found)
        print(f"pace of the load {median('copy', 'load'):.2f} of COPY | COPY; pace of the stream {median('upsert', 'stream'):.2f} of COPY and one upsert (medians of ratios)")
    if args.delay:
        count, sent, middle, most = delay(args.delay)
        print(f"delay at 1,000 changes/s: median {middle * 1000:.0f} ms, 99 % below {most * 1000:.0f} ms, {count:,} of {sent:,} rows")


main()
