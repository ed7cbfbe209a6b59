#!/usr/bin/env python3
"""Writes a set of JSON Lines for measuring: invented barge passages of the Tarrow Navigation.

Each row has a nested object, a short list, and text with escapes and other scripts. The set is the same for the same
arguments. Standard library only.
"""
import argparse
import os
import random
from multiprocessing import Pool

SKIPPERS = ["Ada \\\"Quill\\\" Vane", "Jörg Šumava", "林 美波", "Ольга Ветрова", "T. O'Keel\\tjr", "Ines Çelik \\u00e9"]
KINDS = ["Gravel", "Barley", "SALT", "Clay", "Timber", "Slate", "Lime", "Ore"]
NOTES = [
    "low water at the sill, passage in the second chamber",
    "gate held for \\\"Marrow\\\", which followed after the noon bell",
    "水位低下、注意。第二閘室を通過、係員の確認済み",
    "path C:\\\\lock\\\\7 copied from the old register by hand",
    "none\\nsecond line of the lock keeper's book, in pencil",
    "",
]


def write(job):
    path, first, rows = job
    rng = random.Random(first)
    with open(path, "w", encoding="utf-8", newline="\n") as out:
        lines = []
        for i in range(first, first + rows):
            second = i * 3 % 86400
            day = 1 + (i * 28 // (first + rows + 1)) % 28
            draught = rng.randrange(40, 260)
            lines.append(
                f'{{"passage_id":"P{i:09d}","lock_id":"LOCK-{rng.randrange(64):02d}","vessel_no":"TV{rng.randrange(99999):05d}",'
                f'"passed_at":"2026-03-{day:02d}T{second // 3600:02d}:{second // 60 % 60:02d}:{second % 60:02d}.{i % 1000:03d}Z",'
                f'"draught_cm":{draught},"toll":{rng.randrange(200)}.{rng.randrange(100):02d},'
                f'"skipper":"{SKIPPERS[rng.randrange(6)]}","cargo":{{"kind":"{KINDS[rng.randrange(8)]}","tonnes":{rng.random() * 400:.3f}}},'
                f'"unit":"cm on sill","gauges":[{rng.randrange(400)},{rng.randrange(400)},{rng.randrange(400)}],"note":"{NOTES[rng.randrange(6)]}"}}'
            )
            if len(lines) == 10000:
                out.write("\n".join(lines) + "\n")
                lines = []
        if lines:
            out.write("\n".join(lines) + "\n")
    return os.path.getsize(path)


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder")
    parser.add_argument("--files", type=int, default=10)
    parser.add_argument("--rows", type=int, default=500_000, help="rows in each file")
    args = parser.parse_args()
    os.makedirs(args.folder, exist_ok=True)
    jobs = [(os.path.join(args.folder, f"passages-{n:02d}.jsonl"), n * args.rows, args.rows) for n in range(args.files)]
    with Pool(2) as pool:
        sizes = pool.map(write, jobs)
    print(f"{args.files} files, {args.files * args.rows:,} rows, {sum(sizes) / 1e9:.2f} GB")


if __name__ == "__main__":
    main()
