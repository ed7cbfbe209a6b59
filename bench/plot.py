#!/usr/bin/env python3
"""Draws docs/speed.svg from bench/results.json, which json_to_parquet.py wrote: a bar for each engine, its median time.

    python3 bench/json_to_parquet.py --rounds 5 && python3 bench/plot.py
"""

import json
import os
import statistics

HERE = os.path.dirname(os.path.abspath(__file__))
WIDTH, LEFT, RIGHT, BAR, GAP, TOP = 720, 110, 210, 26, 14, 62
STYLE = """
  text { font: 13px system-ui, sans-serif; fill: #1f2933 }
  .title { font-weight: 600; font-size: 15px }
  .note { fill: #52606d }
  .own { fill: #1b6e8c }
  .other { fill: #b8c4ce }
  @media (prefers-color-scheme: dark) {
    text { fill: #e4e7eb } .note { fill: #9aa5b1 } .own { fill: #4fb3d1 } .other { fill: #52606d }
  }
"""


def main():
    with open(os.path.join(HERE, "results.json")) as file:
        results = json.load(file)
    runs = results["runs"]
    times = {name: statistics.median(run[0] for run in rounds) for name, rounds in runs.items()}
    memory = {name: max(run[1] for run in rounds) for name, rounds in runs.items()}
    order = sorted(times, key=times.get)
    scale = (WIDTH - LEFT - RIGHT) / max(times.values())
    height = TOP + len(order) * (BAR + GAP) + 8
    rounds = len(next(iter(runs.values())))
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{WIDTH}" height="{height}" viewBox="0 0 {WIDTH} {height}" role="img"'
        ' aria-label="Time to turn JSON Lines into Parquet, by engine">',
        f"<style>{STYLE}</style>",
        f'<text class="title" x="0" y="18">{results["bytes"] / 1e9:.2f} GB of JSON Lines into Parquet: seconds, less is better</text>',
        f'<text class="note" x="0" y="40">two cores, medians of {rounds} rounds in turn; Sluice with contract, rejects, ledger and'
        " syncing on</text>",
    ]
    for place, name in enumerate(order):
        y = TOP + place * (BAR + GAP)
        length = times[name] * scale
        kind = "own" if name == "sluice" else "other"
        label = f"{times[name]:.1f} s, {memory[name]:,.0f} MiB at most"
        out += [
            f'<text x="{LEFT - 10}" y="{y + 18}" text-anchor="end">{name}</text>',
            f'<rect class="{kind}" x="{LEFT}" y="{y}" width="{length:.1f}" height="{BAR}" rx="3"/>',
            f'<text class="note" x="{LEFT + length + 10:.1f}" y="{y + 18}">{label}</text>',
        ]
    out.append("</svg>")
    with open(os.path.join(HERE, "..", "docs", "speed.svg"), "w") as file:
        file.write("\n".join(out) + "\n")


if __name__ == "__main__":
    main()
