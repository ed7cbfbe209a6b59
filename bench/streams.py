#!/usr/bin/env python3
"""Windows of three kinds, two joins, a reference with a history and `once`, over hostile streams, killed again and again: every
row compared with duckdb.

Two topics of 12 partitions: one partition is silent from the start, one from the half. Events are out of order by up to two
minutes, 1 % come twice, 0.5 % come six hours late. The names of the locks change meanwhile. The run is killed with SIGKILL
`--kills` times at random while the topics grow, then ends by itself. What was rejected as late must be among the late events,
and what landed must be what duckdb computes of the others.

    pip install --require-hashes -r bench/requirements.txt
    python3 bench/streams.py --events 2000000 --kills 50
"""
import argparse
import glob
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time

import duckdb

ADDRESS = "127.0.0.1:39094"
PARTITIONS = 12
PARTS = 10
SPAN = 6 * 3600

PROJECT = '''[project]
name = "bench"
[connection.source]
url = "kafka://%s"
[connection.archive]
url = "file:archive"
''' % ADDRESS

PIPELINE = '''pipeline = "streams"
batch = { rows = 20_000 }
rejects = { share = "50%%", least = 100_000_000 }

[event.lock]
time = "renamed_at"
fields = "lock_id text not null, name text, renamed_at timestamptz not null"
[event.lock.arrives]
at = "source"
topic = "locks"
format = "json"
start = "earliest"

[event.passage]
time = "passed_at"
fields = "passage_id text not null, lock_id text not null, vessel_no text not null, passed_at timestamptz not null, draught_cm integer"
[event.passage.arrives]
at = "source"
topic = "passages"
format = "json"
start = "earliest"

[event.toll]
time = "paid_at"
fields = "toll_id text not null, vessel_no text not null, paid_at timestamptz not null, cents integer"
[event.toll.arrives]
at = "source"
topic = "tolls"
format = "json"
start = "earliest"

[event.passage_once.made]
of = "passage"
once = { key = "passage_id", within = "30d" }
idle = "2s"
[event.passage_once.lands.archive]
at = "archive"
path = "once"

[event.minute.made]
of = "passage_once"
window = { length = "1m" }
group = "lock_id"
late = "5m"
idle = "2s"
close = "%(close)s"
memory = "%(memory)s"
columns = "lock_id, window_start, count(*) as passages, sum(draught_cm) as draught, max(passage_id) as last"
[event.minute.lands.archive]
at = "archive"
path = "minute"

[event.ten.made]
of = "passage_once"
window = { length = "10m", every = "5m" }
group = "lock_id"
late = "5m"
idle = "2s"
close = "%(close)s"
memory = "%(memory)s"
columns = "lock_id, window_start, count(*) as passages, sum(draught_cm) as draught"
[event.ten.lands.archive]
at = "archive"
path = "ten"

[event.visit.made]
of = "passage_once"
window = { gap = "90s" }
group = "vessel_no"
late = "5m"
idle = "2s"
close = "%(close)s"
columns = "vessel_no, min(passage_id) as first, count(*) as passages, sum(draught_cm) as draught"
[event.visit.lands.archive]
at = "archive"
path = "visit"

[event.paid.made]
of = "passage_once"
join = { event = "toll", on = "toll.vessel_no = passage_once.vessel_no and toll.cents > 200", from = "-2m", to = "10m", unmatched = "both" }
late = "5m"
idle = "2s"
close = "%(close)s"
most = 10_000_000
columns = "passage_once.passage_id, toll.toll_id"
[event.paid.lands.archive]
at = "archive"
path = "paid"

[event.together.made]
of = "passage_once"
join = { event = "toll", on = "toll.vessel_no = passage_once.vessel_no", window = "10m" }
late = "5m"
idle = "2s"
close = "%(close)s"
most = 10_000_000
columns = "passage_once.passage_id, toll.toll_id"
[event.together.lands.archive]
at = "archive"
path = "together"

[event.named.made]
of = "passage_once"
reference = { event = "lock", on = "lock.lock_id = passage_once.lock_id", history = "30d" }
columns = "passage_once.passage_id, lock.name"
[event.named.lands.archive]
at = "archive"
path = "named"
'''


def connect():
    engine = duckdb.connect(config={"threads": 2})
    engine.execute("set timezone = 'UTC'")
    return engine


def make(folder, count):
    """The events in the order in which they are sent: for each partition and part one file."""
    os.makedirs(folder)
    engine = connect()
    engine.execute("select setseed(0.25)")
    for name, key, prefix, when, more in (
        ("passages", "passage_id", "TN", "passed_at", "printf('lock-%05d', (random() * 2000)::int) lock_id, (40 + random() * 200)::int draught_cm"),
        ("tolls", "toll_id", "TO", "paid_at", "(random() * 1000)::int cents"),
    ):
        engine.execute(f"""create table {name} as
            with e as (select n, printf('{prefix}-%08d', n) {key}, printf('V%05d', (random() * 60000)::int) vessel_no, {more},
                n * {SPAN}.0 / {count} as second, random() as luck, random() as delay, random() as place, random() as twice from range({count}) t(n)),
            p as (select *, case when place < 0.03 and n < {count} / 2 then {PARTITIONS - 1} else ((place * 1000000)::int % {PARTITIONS - 2}) end as partition from e),
            t as (select *, second - case when luck < 0.005 and second > 3600 then {SPAN} when luck < 0.3 then delay * 120 else delay * 10 end as event_second from p)
            select *, strftime(timestamp '2026-07-01 08:00:00' + (event_second * 1000)::bigint * interval 1 millisecond, '%Y-%m-%dT%H:%M:%S.%gZ') as {when} from t""")
        columns = {"passages": "passage_id, lock_id, vessel_no, passed_at, draught_cm", "tolls": "toll_id, vessel_no, paid_at, cents"}[name]
        # What comes twice comes again a while later, at the same partition.
        engine.execute(f"""create table {name}_sent as select {columns}, partition, second as sent_at from {name}
            union all select {columns}, partition, second + 200 from {name} where twice < 0.01 and '{name}' = 'passages'""")
        for part in range(PARTS):
            low, high = part * SPAN / PARTS, (part + 1) * SPAN / PARTS if part < PARTS - 1 else SPAN * 9
            for partition in range(PARTITIONS):
                engine.execute(f"""copy (select {columns} from {name}_sent where partition = {partition} and sent_at >= {low} and sent_at < {high}
                    order by sent_at, {key}) to '{folder}/{name}-{part}-{partition}.jsonl' (format json)""")
        late = f"event_second < second - 3600"
        engine.execute(f"copy (select {columns}, {late} as is_late from {name}) to '{folder}/{name}.parquet' (format parquet)")
    # Each lock has a name from the start and gets another one now and then; all of it is there before the passages.
    engine.execute(f"""copy (select printf('lock-%05d', n) lock_id, printf('Lock %d, name %d', n, k) as name,
            strftime(timestamp '2026-06-30 00:00:00' + ((k * 40000 + (n * 37 + k * 911) % 30000) * 1000)::bigint * interval 1 millisecond,
            '%Y-%m-%dT%H:%M:%S.%gZ') renamed_at from range(2001) a(n), range(4) b(k) where n % 50 <> 7 order by k, n)
        to '{folder}/locks.jsonl' (format json)""")


def send(folder, pattern, topic):
    for path in sorted(glob.glob(f"{folder}/{pattern}")):
        partition = path.rsplit("-", 1)[1].split(".")[0] if topic != "locks" else "0"
        if os.path.getsize(path):
            subprocess.run(["kcat", "-P", "-b", ADDRESS, "-t", topic, "-p", partition, "-l", path], check=True)


def settle(project, memory, close):
    os.makedirs(f"{project}/pipelines", exist_ok=True)
    for name, text in (("sluice.toml", PROJECT), ("pipelines/streams.toml", PIPELINE % {"memory": memory, "close": close})):
        with open(f"{project}/{name}", "w") as out:
            out.write(text)


def rejected(project, engine):
    """The rejects: the station, and what names the event."""
    engine.execute("create table rejected (station varchar, id varchar, reason varchar)")
    rows = []
    for path in glob.glob(f"{project}/rejects/**/*.jsonl", recursive=True):
        if "/.sluice/" in path:
            continue
        for line in open(path):
            reject = json.loads(line)
            event = json.loads(reject["bytes"])
            rows.append((reject["station"], event.get("passage_id") or event.get("toll_id"), reject["reason"]))
    if rows:
        import pyarrow

        stations, ids, reasons = zip(*rows)
        found = pyarrow.table({"station": stations, "id": ids, "reason": reasons})  # noqa: F841
        engine.execute("insert into rejected select * from found")


def verify(project, data):
    engine = connect()
    rejected(project, engine)
    for name in ("passages", "tolls"):
        engine.execute(f"create view {name} as select * replace ({'passed_at' if name == 'passages' else 'paid_at'}::timestamptz as {'passed_at' if name == 'passages' else 'paid_at'}) from '{data}/{name}.parquet'")
    engine.execute(f"""create table locks as select lock_id, name, renamed_at::timestamptz renamed_at,
        lead(renamed_at::timestamptz) over (partition by lock_id order by renamed_at) as until from read_json('{data}/locks.jsonl', format='newline_delimited')""")
    one = lambda sql: engine.execute(sql).fetchone()[0]
    landed = lambda name: f"(select * from read_parquet('{project}/archive/{name}/**/*.parquet'))"
    taken = lambda station, name, key: f"(select * from {name} where {key} not in (select id from rejected where station = '{station}'))"
    p, t = lambda s: taken(s, "passages", "passage_id"), lambda s: taken(s, "tolls", "toll_id")
    minute = f"""(select lock_id, time_bucket(interval '1 minute', passed_at) window_start, count(*) passages, sum(draught_cm)::bigint draught,
        max(passage_id) as last from {p('minute')} group by all)"""
    visit = f"""(select vessel_no, min(passage_id) as first, count(*) passages, sum(draught_cm)::bigint draught from (
        select *, sum(begins) over (partition by vessel_no order by passed_at, passage_id rows unbounded preceding) as session from (
        select *, case when passed_at - lag(passed_at) over (partition by vessel_no order by passed_at, passage_id) < interval '90 seconds' then 0 else 1 end as begins
        from {p('visit')})) group by vessel_no, session)"""
    pairs = f"""(select passage_id, toll_id from {p('paid')} p join (select * from {t('paid')} where cents > 200) t on p.vessel_no = t.vessel_no
        and paid_at >= passed_at - interval '2 minutes' and paid_at <= passed_at + interval '10 minutes')"""
    expected = {
        "once": "(select passage_id from passages)",
        "minute": minute,
        "visit": visit,
        "paid": f"""(select * from {pairs} union all select passage_id, null from {p('paid')} where passage_id not in (select passage_id from {pairs})
            union all select null, toll_id from {t('paid')} where toll_id not in (select toll_id from {pairs}))""",
        "together": f"""(select passage_id, toll_id from {p('together')} p join {t('together')} t on p.vessel_no = t.vessel_no
            and time_bucket(interval '10 minutes', passed_at) = time_bucket(interval '10 minutes', paid_at))""",
        "named": "(select passage_id, name from passages p left join locks l on p.lock_id = l.lock_id and passed_at >= renamed_at and (until is null or passed_at < until))",
    }
    bad = 0
    for name, sql in expected.items():
        columns = [row[0] for row in engine.execute(f"describe select * from {sql}").fetchall()]
        ours = f"(select {', '.join(columns)} from {landed(name)})"
        counts = one(f"select count(*) from {ours}"), one(f"select count(*) from {sql}")
        differ = one(f"select count(*) from ({ours} except all {sql} union all ({sql} except all {ours}))")
        print(f"{name:9} {counts[0]:>10,} rows, duckdb {counts[1]:>10,}; different: {differ}")
        bad += differ
    # An event that is late for one of two windows counts in the other, and is no reject: groups with a late event may differ.
    ten = f"""(select lock_id, w as window_start, count(*) passages, sum(draught_cm)::bigint draught, max(is_late) as late from (
        select *, unnest([time_bucket(interval '5 minutes', passed_at), time_bucket(interval '5 minutes', passed_at) - interval '5 minutes']) as w
        from {p('ten')}) group by all)"""
    ours = f"(select lock_id, window_start, passages, draught from {landed('ten')})"
    twice = one(f"select count(*) from (select lock_id, window_start from {ours} group by all having count(*) > 1)")
    differ = one(f"""select count(*) from {ours} o full join {ten} e using (lock_id, window_start)
        where (o.passages is distinct from e.passages or o.draught is distinct from e.draught) and not coalesce(e.late, false)""")
    print(f"{'ten':9} {one(f'select count(*) from {ours}'):>10,} rows; twice: {twice}; different without a late event: {differ}")
    late = one("select (select count(*) from passages where is_late) + (select count(*) from tolls where is_late)")
    wrong = one("""select count(*) from rejected where reason <> 'late' or id not in (select passage_id from passages where is_late
        union all select toll_id from tolls where is_late)""")
    counts = engine.execute("select station, count(*) from rejected group by 1 order by 1").fetchall()
    print(f"late events: {late:,}; rejects: {', '.join(f'{s} {n:,}' for s, n in counts)}; rejects that are not of late events: {wrong}")
    return bad + twice + differ + wrong


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--sluice", default="target/release/sluice")
    parser.add_argument("--folder", default="bench/data/streams")
    parser.add_argument("--events", type=int, default=2_000_000, help="of both topics together")
    parser.add_argument("--kills", type=int, default=50)
    parser.add_argument("--memory", default="256MiB", help="of each window")
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    sluice, folder = os.path.abspath(args.sluice), os.path.abspath(args.folder)
    data, project = f"{folder}/{args.events}", f"{folder}/project"
    if not os.path.exists(data):
        make(data, args.events // 2)
    shutil.rmtree(project, ignore_errors=True)
    settle(project, args.memory, "watermark")
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    topics = [f"--topic={name}:{PARTITIONS}" for name in ("passages", "tolls")] + ["--topic=locks:1"]
    broker = subprocess.Popen([sluice, "stand-in", "broker", "--listen", ADDRESS, *topics], **quiet)
    time.sleep(0.5)
    chance, killed, began = random.Random(args.seed), 0, time.time()
    try:
        send(data, "locks.jsonl", "locks")
        for part in range(PARTS):
            send(data, f"passages-{part}-*.jsonl", "passages")
            send(data, f"tolls-{part}-*.jsonl", "tolls")
            wanted = args.kills * (part + 1) // PARTS
            while killed < wanted:
                run = subprocess.Popen([sluice, "run", "streams", "--until-caught-up"], cwd=project, **quiet)
                try:
                    run.wait(chance.random() * 2.5)
                except subprocess.TimeoutExpired:
                    run.send_signal(signal.SIGKILL)
                    run.wait()
                    killed += 1
                else:
                    # It has read all there is: the next one is killed earlier in its work.
                    if run.returncode:
                        sys.exit(f"a run ended with {run.returncode}")
                    break
        settle(project, args.memory, "caught_up")
        last = subprocess.run([sluice, "run", "streams", "--until-caught-up"], cwd=project, capture_output=True, text=True)
        if last.returncode:
            sys.exit(last.stderr[-2000:])
    finally:
        broker.kill()
    print(f"killed {killed} times, {time.time() - began:.0f} s")
    if verify(project, data):
        sys.exit("they differ")


main()
