// Where Brumel lies on its host, with its last slash: "/", or under a path. A practice world is no part of it.
const own = /(practice\/world\/)?static\/([0-9a-f]+\/)?js\/root\.js$/;
export const home = new URL(import.meta.url).pathname.replace(own, "");
