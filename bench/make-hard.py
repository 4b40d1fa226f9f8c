#!/usr/bin/env python3
"""Makes a hard universe out of a problem of propositional logic, and the same problem as DIMACS.

A variable is a package with two releases: 1 is false, 2 is true. A clause is a package with a release for each of its
literals, which needs that variable in that version. The project needs them all.

Usage: make-hard.py FOLDER FAMILY SIZE SEED
Families: random (3-SAT at the threshold), pigeons (SIZE + 1 into SIZE holes), parity (a chain that contradicts
itself), colours (a random graph in three colours).
"""
import json
import pathlib
import random
import sys

folder, family, size, seed = pathlib.Path(sys.argv[1]), sys.argv[2], int(sys.argv[3]), int(sys.argv[4])
rng = random.Random(seed)


def random_formula():
    return size, [[v * rng.choice((1, -1)) for v in rng.sample(range(1, size + 1), 3)] for _ in range(int(4.26 * size))]


def pigeons():
    at = lambda pigeon, hole: pigeon * size + hole + 1
    clauses = [[at(p, h) for h in range(size)] for p in range(size + 1)]
    pairs = [(p, q) for p in range(size + 1) for q in range(p)]
    return (size + 1) * size, clauses + [[-at(p, h), -at(q, h)] for h in range(size) for p, q in pairs]


def parity():
    """Two chains over the same variables in other orders: their sums are said to be odd and even."""
    variables, clauses = size, []

    def odd_sum(a, b, c):
        return [[a, b, c], [a, -b, -c], [-a, b, -c], [-a, -b, c]]

    for is_odd in (True, False):
        order = rng.sample(range(1, size + 1), size)
        total = order[0]
        for variable in order[1:]:
            variables += 1
            # total xor variable xor next = 0
            clauses += [[-x for x in clause] for clause in odd_sum(total, variable, variables)]
            total = variables
        clauses.append([total if is_odd else -total])
    return variables, clauses


def colours():
    at = lambda node, colour: node * 3 + colour + 1
    edges = {tuple(sorted(rng.sample(range(size), 2))) for _ in range(int(2.3 * size))}
    clauses = [[at(n, c) for c in range(3)] for n in range(size)]
    return size * 3, clauses + [[-at(a, c), -at(b, c)] for a, b in sorted(edges) for c in range(3)]


variables, clauses = {"random": random_formula, "pigeons": pigeons, "parity": parity, "colours": colours}[family]()
folder.mkdir(parents=True, exist_ok=True)
(folder / "problem.cnf").write_text(
    f"p cnf {variables} {len(clauses)}\n" + "".join(" ".join(map(str, clause)) + " 0\n" for clause in clauses)
)
at = "2026-03-01T08:00:00Z"
cards = [{"name": f"bed-n{v}", "version": str(value), "published": at} for v in range(1, variables + 1) for value in (1, 2)]
for number, clause in enumerate(clauses):
    for place, literal in enumerate(clause):
        need = {"name": f"bed-n{abs(literal)}", "range": "2" if literal > 0 else "1"}
        cards.append({"name": f"rule-n{number}", "version": str(place + 1), "published": at, "needs": [need]})
(folder / "cards.jsonl").write_text("".join(json.dumps(card) + "\n" for card in cards))
project = folder / "project"
project.mkdir(exist_ok=True)
needs = [f"bed-n{v}" for v in range(1, variables + 1)] + [f"rule-n{n}" for n in range(len(clauses))]
manifest = '[project]\nname = "garden"\n\n[registries]\nseedhouse = "../seedhouse"\n\n[needs]\n'
(project / "bibliotax.toml").write_text(manifest + "".join(f'{name} = "any"\n' for name in needs))
