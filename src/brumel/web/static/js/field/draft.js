// A visit in the making, kept for each site of the outing: its depths so far, what stands in the form, note and photos.
import { database } from "../kept.js";

const place = (outing, site) => `${outing}/${site}`;

export const load = async (outing, site) =>
  (await (await database()).get("drafts", place(outing, site))) ?? { sets: [], fields: {}, photos: [] };

export const save = async (outing, site, draft) =>
  (await database()).put("drafts", { place: place(outing, site), ...draft });

export const clear = async (outing, site) => (await database()).delete("drafts", place(outing, site));

// What stands in the form, by name; the site is not part of it.
export const fieldsOf = (form) =>
  Object.fromEntries(
    [...form.elements]
      .filter((e) => e.name && e.name !== "site" && e.type !== "file")
      .map((e) => [e.name, e.value]),
  );

export const fill = (form, fields) => {
  for (const [name, value] of Object.entries(fields))
    if (form.elements[name]) form.elements[name].value = value;
};

const TYPED = /^(value_|temperature_c$|depth_m$)/;

export const isBlank = (form) =>
  ![...form.elements].some((e) => TYPED.test(e.name) && e.name !== "depth_m" && e.value.trim());
