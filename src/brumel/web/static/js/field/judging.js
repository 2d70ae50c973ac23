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

// What a way's factor goes with besides: the water's temperature, by the tables that came along; null where that is unknown.
const goesWith = (by, c, { grid_c: grid, natural }, oxygen) => {
  if (!by) return 1;
  if (c === null) return null;
  if (by === "natural") return at(grid, natural, c);
  const full = at(grid, oxygen, c);
  return full === null ? null : by === "full" ? full : 1 / full;
};

// The slip that explains an odd value best, as `core.slips` finds it; nothing where none does.
// here : what is expected, [from, to, middle]; ways : how a value may have come about; also : c, tables, oxygen
export const slipOf = (value, here, ways, { c, tables, oxygen }) => {
  const fits = ways
    .map((way) => ({ way, by: goesWith(way.by, c, tables, oxygen) }))
    .filter(({ by }) => by !== null)
    .map(({ way, by }) => ({ way, meant: way.factor * by * value + way.offset }))
    .filter(({ meant }) => !outside(meant, here[0], here[1]));
  const near = ({ meant }) => Math.abs(meant - here[2]);
  return fits.length ? fits.reduce((best, each) => (near(each) < near(best) ? each : best)) : undefined;
};

// Another value that would fit here, as this one would fit there; the other's quantity, or nothing.
export const swappedWith = (quantity, read, expected) => {
  const fits = (value, of) => !outside(value, of[0], of[1]);
  const here = expected[quantity];
  return Object.keys(read).find((other) => {
    const there = expected[other];
    if (other === quantity || !there || fits(read[other], there)) return false;
    return fits(read[other], here) && fits(read[quantity], there);
  });
};

const figures = (value) => +value.toPrecision(4);

// What was meant, where a slip would explain the value; undefined where none does.
const explained = (quantity, words, read, expected, ways, also) => {
  const [value, here] = [read[quantity], expected[quantity]];
  if (!here || !outside(value, here[0], here[1])) return undefined;
  const other = swappedWith(quantity, read, expected);
  if (other)
    return {
      other,
      sentence: `${words} ${value} and ${read[other]} would fit the other way round. Were the two swapped?`,
    };
  const slip = slipOf(value, here, ways, also);
  return (
    slip && {
      sentence: `${words} ${figures(value)} is not what this site reads, ${between([figures(here[0]), figures(here[1])])}: ${figures(slip.meant)} would fit. ${slip.way.words}`,
    }
  );
};

// Whether everything that is typed is what was typed at the visit before, to the digit.
export const copiedFrom = (typed, before, least) => {
  const quantities = Object.keys(typed);
  if (quantities.length < least) return undefined;
  if (!quantities.every((q) => before?.[q]?.[0] === typed[q])) return undefined;
  const times = quantities.map((q) => before[q][1]);
  return Math.max(...times) - Math.min(...times) > 12 * 3600 ? undefined : times[0];
};

// What is odd about the values of a set: the most telling sentence of each value, with the code the server asks it by.
// c : the water's temperature [°C]; tables : what goes by temperature
export const oddities = (rows, depth, probes, site, c, tables) => {
  const of = (all) => all[depth ?? ""] ?? all[""] ?? {};
  const known = rows.map((row) => ({ row, ...reportedBy(row, probes) }));
  const read = Object.fromEntries(
    known.filter((k) => k.value !== null).map((k) => [k.probe.quantity, k.value]),
  );
  if (Number.isFinite(c)) read.temperature ??= c;
  const also = { c: Number.isFinite(c) ? c : null, tables, oxygen: site.oxygen?.here };
  const odd = known.flatMap(({ row, probe, value }) => {
    const outsideOf = value === null ? [] : questioned(value, of(site.bands)[probe.quantity] ?? []);
    if (!outsideOf.length) return [];
    const band = outsideOf.at(-1); // what cannot be before what is unusual
    const slip = explained(
      probe.quantity,
      probe.words,
      read,
      of(site.expected),
      site.ways[probe.quantity] ?? [],
      also,
    );
    if (slip?.other && slip.other < probe.quantity) return []; // asked once, of the other
    const words = `${probe.words} ${row.value} ${band.words}, ${between([figures(band.low), figures(band.high)])}.`;
    return [{ code: `${probe.quantity}:unusual`, sentence: slip?.sentence ?? words }];
  });
  const typed = Object.fromEntries(known.map(({ row, probe }) => [probe.quantity, row.value]));
  const copied = copiedFrom(typed, of(site.before), tables.copied);
  if (copied !== undefined) {
    const day = new Date(copied * 1000).toLocaleDateString("en-GB", { day: "numeric", month: "short" });
    // Asked of the first value in the order of a sheet, as the server asks it.
    const [first] = Object.keys(typed).sort((a, b) => tables.order.indexOf(a) - tables.order.indexOf(b));
    odd.push({
      code: `${first}:copied`,
      sentence: `All ${known.length} values are what was typed here on ${day}, to the digit. Was the sheet of that day copied?`,
    });
  }
  return odd;
};

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
