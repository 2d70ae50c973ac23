// What the strip of the live bench draws with; bundled into static/vendor/d3.js.
export { scaleLinear } from "d3-scale";
export { line } from "d3-shape";
