// Four parts of what programs do, for Node; prints JSON. Usage: parts.js PART.
"use strict";

const PARTS = {
  /** Nothing: what is left is the start of the runtime. */
  start() {
    return 0;
  },

  /** Whole numbers and the place of a planet on its orbit. */
  arithmetic() {
    let state = 1;
    let total = 0;
    let anomaly = 0.1;
    for (let n = 0; n < 6000000; n += 1) {
      state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
      total += state >>> (n & 15);
      anomaly = anomaly * 0.999 + 0.0017;
    }
    return total + anomaly;
  },

  /** Lines of a catalogue, split, changed and joined. */
  strings() {
    let lines = Array.from({ length: 20000 }, (_, n) =>
      `NL ${String(n).padStart(6, "0")};${(n * 7919) % 360};${(n * 104729) % 180}`);
    let total = 0;
    for (let round = 0; round < 10; round += 1) {
      const cells = lines.map((line) => line.split(";"));
      lines = cells.map(([name, east, north]) =>
        [name.toLowerCase().toUpperCase(), east, north].join(";"));
      total += lines.join("\n").replaceAll("NL", "star").length;
    }
    return total;
  },

  /** A tree of objects that are all alive at once. */
  memory() {
    const tree = [];
    for (let n = 0; n < 300000; n += 1) tree.push({ name: n, next: [n, n + 1] });
    return tree.length + tree[tree.length - 1].name;
  },
};

const result = PARTS[process.argv[2]]();
console.log(JSON.stringify({ version: `node ${process.versions.node}`, result }));
