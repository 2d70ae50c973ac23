// What long series are drawn with; bundled into static/vendor/uplot.js.
export { default } from "uplot";
