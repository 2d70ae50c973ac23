// What can be asked about a cup without the server: by the tables that came along, as a perfect probe would read.
// Each rule has its like in core, and the tests hold the two to the same cases.

// A table at a temperature, in a straight line between its lines; null outside of it or where it has none.
export const at = (grid, table, c) => {
  if (!table?.length || !(c >= grid[0] && c <= grid.at(-1))) return null;
  const above = Math.max(
    1,
    grid.findIndex((each) => each >= c),
  );
  const [low, high] = [table[above - 1], table[above]];
  if (c === grid[above]) return high; // where a table begins, there is no line below
  if (low === null || high === null) return null;
  return low + ((c - grid[above - 1]) / (grid[above] - grid[above - 1])) * (high - low);
};

// What a perfect probe reads of a display; null where only the server can say.
export const readOf = (grid, way, shown, c) => {
  const [offset, factor] = [at(grid, way.offsets, c), at(grid, way.factors, c)];
  return offset === null || factor === null ? null : offset + factor * shown;
};

// What a display should show where the cup should read `expected`.
export const shouldShow = (grid, way, expected, c) => {
  const [offset, factor] = [at(grid, way.offsets, c), at(grid, way.factors, c)];
  return offset === null || !factor || expected === null ? null : (expected - offset) / factor;
};

const apart = (scale, a, b) =>
  scale.ratio ? Math.abs(Math.log(Math.max(a, 1e-9) / Math.max(b, 1e-9))) : Math.abs(a - b);

// Another cup of the tray explains the reading better, or none does; empty where neither.
export const wrongCup = (read, here, tray, scale) => {
  const off = apart(scale, read, here.value);
  const others = tray.filter((cup) => apart(scale, cup.value, here.value) > scale.margin);
  const [best] = others.sort((a, b) => apart(scale, read, a.value) - apart(scale, read, b.value));
  const near = best && apart(scale, read, best.value);
  if (best && near < scale.near && off - near > scale.margin) return { code: "wrong_cup", cup: best };
  return off > scale.far ? { code: "no_cup" } : null;
};

// The one slip of a finger that explains what was typed: a lost sign or point.
export const slipOf = (shown, slips, isNear) => {
  if (shown === 0 || isNear(shown)) return null;
  const meant = slips
    .map(({ words, factor }) => ({ words, meant: shown * factor }))
    .filter(({ meant }) => isNear(meant));
  return meant.length === 1 ? meant[0] : null;
};

// The label's value of 25 °C was typed, although the cup should read another at its temperature.
export const isLabel = (shown, nominal, expected, limits) =>
  Math.abs(shown - nominal) < limits.same && Math.abs(expected - nominal) >= limits.apart;

export const isSpread = (temperatures, most) =>
  temperatures.length > 1 && Math.max(...temperatures) - Math.min(...temperatures) > most;

// Everything that speaks against a cup as it was typed: codes with their sentences.
// cup : {name, expected, nominal, isSolution}; tray : the other cups of the run, the same; before : temperatures so far [°C]
export const objections = (plan, grid, slips, { way, shown, c, cup, tray, before }) => {
  const found = [];
  const expected = at(grid, cup.expected, c);
  const read = readOf(grid, way, shown, c);
  const { scale, spread_c: spread, label } = plan.limits;
  const unit = way.label.split(",")[0];
  if (scale && read !== null && expected !== null && cup.isSolution) {
    const others = tray
      .map((other) => ({ name: other.name, value: at(grid, other.expected, c) }))
      .filter((other) => other.value !== null);
    const wrong = wrongCup(read, { value: expected }, others, scale);
    const reads = `By a perfect probe this reads ${+read.toPrecision(4)}`;
    if (wrong?.code === "wrong_cup")
      found.push({
        code: "wrong_cup",
        sentence: `${reads}: nearer to ${wrong.cup.name} than to ${cup.name}.`,
      });
    if (wrong?.code === "no_cup")
      found.push({
        code: "no_cup",
        sentence: `${reads}; ${cup.name} should read ${+expected.toPrecision(4)}, and no other cup explains it.`,
      });
  }
  if (scale && expected !== null && way.offsets.length) {
    const isNear = (value) =>
      value >= way.low &&
      value <= way.high &&
      apart(scale, readOf(grid, way, value, c), expected) <= scale.near;
    const slip = slipOf(shown, slips, isNear);
    if (slip)
      found.push({
        code: "typed_slip",
        sentence: `${shown} ${unit} was typed: ${slip.words}. Was it ${+slip.meant.toPrecision(5)} ${unit}?`,
      });
  }
  if (label && way.key === "ph" && cup.nominal !== null && expected !== null)
    if (isLabel(shown, cup.nominal, expected, label))
      found.push({
        code: "label_value",
        sentence: `${shown} is the label's value at 25 °C; at this cup's temperature it is ${expected.toFixed(2)}.`,
      });
  if (spread && isSpread([...before, c], spread))
    found.push({
      code: "cup_temperature",
      sentence: `The cups differ by more than the method allows, ${spread} °C.`,
    });
  return found;
};
