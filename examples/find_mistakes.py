"""A bench with mistakes: what is wrong, what to type, and rows that must come out.

python examples/find_mistakes.py
"""

import jetruler as jr

BENCH = """
[converter]
bits = 12
vref = "3.3 V"

[channel.bean]
column = "ch0"
laws = [
  { law = "divider", known = "4.7 kohm" },
  { law = "beta", r0 = "100 kohm", beta = 395 },
]
limits = [20, 240]
expected = [["100 kohm", "25 degC"], ["4.7 kohm", "114.4 degC", 0.1]]

[channel.draught]
column = "ch4"
laws = [
  { law = "shunt", ohms = 250 },
  { law = "line", marks = [["4 mA", 0], ["20 mA", 250]], unit = "Pa" },
]
"""

findings = jr.check(jr.parse_bench(BENCH))
for finding in findings:
    print(f"{finding.severity.name.lower()}: {finding.where}: {finding.what}")
    print(f"  to type: {finding.change}")
    for follows in finding.explains:
        print(f"  explains {follows.rule} at {follows.where}")

mended = BENCH.replace("beta = 395 ", "beta = 3950 ").replace("ohms = 250", "ohms = 160")
found = jr.check(jr.parse_bench(mended))
print(found.headline)
for row in found.injected:
    verdict = "holds" if row.holds else "does not hold"
    print(f"{row.raw}: expected {row.expected}, found {row.found}: {verdict}")
