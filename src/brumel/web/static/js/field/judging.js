// What the field page can say without the server: faults of what was typed, and values outside the bands it was given.
import { at } from "../cups/rules.js";

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

// The second display of an oxygen meter, % beside mg/L or the other way round; empty where it was left out.
const besides = (form, probe, faults) => {
  const text = form.elements[`beside_${probe.id}`]?.value.trim();
  if (!text) return {};
  const value = numeral(text.replace(/%|mg\/L/i, ""));
  if (Number.isFinite(value)) return { beside: value };
  faults.push(`${probe.name}: “${text}” is not a number.`);
  return {};
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
    else rows.push({ probe: probe.id, unit, value, ...besides(form, probe, faults) });
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

// The value a row reports, where the browser can say: as displayed, but for a factor and an offset.
const reportedBy = (row, probes) => {
  const probe = probes.find((p) => p.id === row.probe);
  const { reported } = probe.entries.find((e) => e.key === row.unit);
  return { probe, value: reported ? row.value * reported[0] + reported[1] : null };
};

// A digit or a thousand that was lost, where the value would then be what the site's past or usual range has.
const lost = (value, bands) => {
  const usual = bands.find((b) => b.key === "history") ?? bands.findLast((b) => b.key === "site_range");
  const factor = usual && [1000, 0.001, 10, 0.1].find((f) => !outside(value * f, usual.low, usual.high));
  return factor
    ? `${value} is not what this site reads: ${+(value * factor).toPrecision(4)} would fit. Was the unit taken for another, or a digit lost?`
    : undefined;
};

// What is odd about the values of a set: the most telling sentence of each value, with the code the server asks it by.
export const oddities = (rows, depth, probes, site) =>
  rows.flatMap((row) => {
    const { probe, value } = reportedBy(row, probes);
    const bands = (site.bands[depth ?? ""] ?? site.bands[""])[probe.quantity] ?? [];
    const outsideOf = value === null ? [] : questioned(value, bands);
    if (!outsideOf.length) return [];
    const band = outsideOf.at(-1); // what cannot be before what is unusual
    const words = `${probe.words} ${row.value} ${band.words}, ${between([+band.low.toPrecision(4), +band.high.toPrecision(4)])}.`;
    return [{ code: `${probe.quantity}:unusual`, sentence: lost(value, bands) ?? words }];
  });

// mg/L and % of one oxygen display: the one follows from the other, at what the meter is set to; over-saturation needs light.
// tables : saturation over the grid of temperatures, here and as the probe's meter is set
export const oxygenOddities = (row, c, tables, { grid_c: grid, share, step, supersaturated }) => {
  const [here, set] = [at(grid, tables.here, c), at(grid, tables[row.probe], c)];
  if (here === null || set === null || !["mg_l", "percent"].includes(row.unit)) return [];
  const found = [];
  const [mgL, typed] = row.unit === "mg_l" ? [row.value, row.beside] : [row.beside, row.value];
  const percent = typed ?? (100 * mgL) / set;
  if (mgL !== undefined && typed !== undefined) {
    const near = share * percent + step;
    const [asSet, asHere] = [(100 * mgL) / set, (100 * mgL) / here];
    const isHere = Math.abs(asHere - percent) <= near;
    if (Math.abs(asSet - percent) > near)
      found.push({
        code: "oxygen:pair",
        sentence: isHere
          ? `${mgL} mg/L and ${percent} % fit the site's own salinity and pressure, not those on record for the meter.`
          : `${mgL} mg/L and ${percent} % do not fit together: at ${c} °C it would be ${asHere.toFixed(1)} %.`,
      });
  }
  if (percent > supersaturated)
    found.push({
      code: "saturation:oxygen_light",
      sentence: `${percent.toFixed(0)} % saturation is over ${supersaturated} %: only plants in light, or falling water, do that.`,
    });
  return found;
};

// What lies beyond its limit is said, and wants no reason.
export const beyond = (rows, probes, site) =>
  rows
    .map((row) => ({ row, ...reportedBy(row, probes) }))
    .filter(({ probe, value }) => value !== null && beyondLimit(value, site.limits[probe.quantity]))
    .map(
      ({ probe, row }) =>
        `${probe.words} ${row.value} lies beyond the limit. Judged without its uncertainty.`,
    );
