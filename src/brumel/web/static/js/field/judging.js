// What the field page can say without the server: faults of what was typed, and values outside the bands it was given.

const numeral = (text) => Number(text.trim().replace("−", "-").replace(",", "."));

const outside = (value, low, high) => !(value >= low && value <= high);
const between = ([low, high]) => `${low} to ${high}`.replaceAll("-", "−");

// One field as a number within limits; what is wrong with it goes to the faults.
const measured = (form, name, words, limits, faults) => {
  const text = form.elements[name].value.trim();
  const value = text ? numeral(text) : null;
  if (text && outside(value, ...limits)) faults.push(`${words} is not a number from ${between(limits)}.`);
  return value;
};

const faultOf = (text, value, entry) => {
  if (/^\d{1,3},\d{3}$/.test(text))
    return `“${text}” can be read in two ways; write it with a point, or without the comma.`;
  if (!Number.isFinite(value)) return `“${text}” is not a number.`;
  if (outside(value, entry.low, entry.high))
    return `${value} ${entry.label} lies outside ${entry.low} to ${entry.high}.`;
  return "";
};

// What the form holds as one set of a visit, with every fault at once.
export const read = (form, probes, bounds) => {
  const rows = [];
  const faults = [];
  const at = measured(form, "temperature_c", "Water temperature", bounds.temperature_c, faults);
  if (at === null) faults.unshift("Water temperature is missing. Every signal is read at it.");
  const depth = measured(form, "depth_m", "Depth", bounds.depth_m, faults);
  for (const probe of probes) {
    const text = form.elements[`value_${probe.id}`]?.value.trim();
    if (!text) continue;
    const unit = form.elements[`unit_${probe.id}`].value;
    const value = numeral(text);
    const fault = faultOf(
      text,
      value,
      probe.entries.find((e) => e.key === unit),
    );
    if (fault) faults.push(`${probe.name}: ${fault}`);
    else rows.push({ probe: probe.id, unit, value });
  }
  const thermometer = probes.find((p) => p.quantity === "temperature");
  if (thermometer && Number.isFinite(at)) rows.unshift({ probe: thermometer.id, unit: "c", value: at });
  if (!rows.length) faults.push("Type what at least one display shows.");
  return { rows, faults, at, depth };
};

// The keys of the bands a value lies outside of; a test with two bands, such as the site's own, is named once.
export const questioned = (value, bands) => [
  ...new Map(
    bands
      .filter((b) => outside(value, b.low, b.high))
      .map((b) => [b.key, b])
      .reverse(),
  ).values(),
];

const beyondLimit = (value, limit) =>
  limit && ((limit.high !== null && value > limit.high) || (limit.low !== null && value < limit.low));

// What is odd about the values of a set, and which of them no calibration stands behind as they were typed.
export const oddities = (rows, depth, probes, site) => {
  const found = [];
  for (const row of rows) {
    const probe = probes.find((p) => p.id === row.probe);
    const entry = probe.entries.find((e) => e.key === row.unit);
    if (!entry.reported) continue;
    const value = row.value * entry.reported[0] + entry.reported[1];
    const bands = (site.bands[depth ?? ""] ?? site.bands[""])[probe.quantity] ?? [];
    for (const band of questioned(value, bands))
      found.push(
        `${probe.words} ${row.value} ${band.words}, ${between([+band.low.toPrecision(4), +band.high.toPrecision(4)])}.`,
      );
    if (beyondLimit(value, site.limits[probe.quantity]))
      found.push(`${probe.words} ${row.value} lies beyond the limit. Judged without its uncertainty.`);
  }
  return found;
};
