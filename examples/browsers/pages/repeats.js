// What the three pages share: repeats, the step of the clock, and the report to the driver.

/** The smallest step that the clock of this page shows, in ms. */
function stepOfClock() {
  let least = Infinity;
  for (let found = 0, last = performance.now(); found < 20; ) {
    const now = performance.now();
    if (now > last) {
      least = Math.min(least, now - last);
      found += 1;
    }
    last = now;
  }
  return Math.round(least * 1e6) / 1e6;
}

function timed(work) {
  const start = performance.now();
  work();
  return performance.now() - start;
}

/** Whole numbers in a loop: nothing but what the compiler makes of it. */
function integerLoop(rounds) {
  let state = 1;
  let sum = 0;
  for (let n = 0; n < rounds; n += 1) {
    state = (Math.imul(state, 1664525) + 1013904223) | 0;
    sum = (sum + (state >>> (n & 15))) | 0;
  }
  return sum;
}

/**
 * How long the loop takes beside a sort, which the browser brings along compiled: it tells
 * whether the page's own code is compiled, whatever the browser says of itself.
 */
function loopOverSort() {
  const numbers = new Float64Array(100000);
  const ratios = [];
  integerLoop(500000);
  for (let round = 0; round < 3; round += 1) {
    for (let n = 0; n < numbers.length; n += 1) numbers[n] = Math.sin(n * 12.9898 + round);
    const sorting = timed(() => numbers.sort());
    ratios.push(timed(() => integerLoop(1000000)) / sorting);
  }
  return median(ratios);
}

function median(values) {
  const sorted = [...values].sort((a, b) => a - b);
  return sorted[Math.floor(sorted.length / 2)];
}

function shown() {
  return new Promise((resolve) => requestAnimationFrame(() => setTimeout(resolve, 0)));
}

/** Repeats every part (the first time is left out) and posts the medians in ms. */
async function report(parts, repeats) {
  const result = { agent: navigator.userAgent, clock_step: stepOfClock(), repeats };
  for (const [name, work] of Object.entries(parts)) {
    const times = [];
    for (let n = 0; n <= repeats; n += 1) {
      await shown();
      times.push(timed(work));
    }
    result[name] = Math.round(median(times.slice(1)) * 1e4) / 1e4;
  }
  result.loop_over_sort = loopOverSort();
  await fetch("/result", { method: "POST", body: JSON.stringify(result) });
}
