// What the field page can say without the server: faults of what was typed, and oddities by the ranges alone.

const numeral = (text) => Number(text.trim().replace("−", "-").replace(",", "."));

const outside = (value, [low, high]) => !(value >= low && value <= high);
const between = ([low, high]) => `${low} to ${high}`.replaceAll("-", "−");

// What the form holds as a sheet's rows, with every fault at once.
export const read = (form, probes, bounds) => {
  const rows = [];
  const faults = [];
  const at = numeral(form.elements.temperature_c.value);
  if (!form.elements.temperature_c.value.trim())
    faults.push("Water temperature is missing. Every signal is read at it.");
  else if (outside(at, bounds.temperature_c))
    faults.push(`Water temperature is not a number from ${between(bounds.temperature_c)}.`);
  const depthText = form.elements.depth_m.value.trim();
  const depth = depthText ? numeral(depthText) : null;
  if (depthText && outside(depth, bounds.depth_m))
    faults.push(`Depth is not a number from ${between(bounds.depth_m)}.`);
  for (const probe of probes) {
    const text = form.elements[`value_${probe.id}`]?.value.trim();
    if (!text) continue;
    const unit = form.elements[`unit_${probe.id}`].value;
    const entry = probe.entries.find((e) => e.key === unit);
    const value = numeral(text);
    if (/^\d{1,3}[.,]\d{3}$/.test(text) && text.includes(",")) {
      faults.push(
        `${probe.name}: “${text}” can be read in two ways; write it with a point, or without the comma.`,
      );
    } else if (!Number.isFinite(value)) faults.push(`${probe.name}: “${text}” is not a number.`);
    else if (value < entry.low || value > entry.high) {
      faults.push(`${probe.name}: ${value} ${entry.label} lies outside ${entry.low} to ${entry.high}.`);
    } else rows.push({ probe: probe.id, unit, value });
  }
  const thermometer = probes.find((p) => p.quantity === "temperature");
  if (thermometer && Number.isFinite(at)) rows.unshift({ probe: thermometer.id, unit: "c", value: at });
  if (!rows.length) faults.push("Type what at least one display shows.");
  return { rows, faults, at, depth };
};

// Values outside what the site usually reads, or beyond its limit, of what is typed in the reported unit itself.
export const oddities = (rows, probes, site) => {
  const found = [];
  for (const row of rows) {
    const probe = probes.find((p) => p.id === row.probe);
    const range = site.usual[probe.quantity];
    if (!range || !probe.entries.find((e) => e.key === row.unit).reported) continue;
    const [low, high] = range.usual ?? [];
    if (row.value < low || row.value > high) {
      found.push(
        `${probe.words} ${row.value} lies outside this site's usual ${low} to ${high}. Repeat it, or say why.`,
      );
    }
    const limit = site.limits[probe.quantity];
    if (
      limit &&
      ((limit.high !== null && row.value > limit.high) || (limit.low !== null && row.value < limit.low))
    ) {
      found.push(`${probe.words} ${row.value} lies beyond the limit. Judged without its uncertainty.`);
    }
  }
  return found;
};
