// Scripts are read for mistakes, not for style: names that are not there, values that nothing uses, conditions that are always so.
import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["var/**", "node_modules/**"] },
  js.configs.recommended,
  { files: ["didactor/static/js/*.js"], languageOptions: { globals: { ...globals.browser, htmx: "readonly" } } },
  { files: ["didactor/static/js/sw.js"], languageOptions: { globals: globals.serviceworker } },
  { files: ["didactor/static/js/capture.js"], languageOptions: { globals: globals.audioWorklet } },
  { files: ["tests/js/*.mjs"], languageOptions: { globals: { ...globals.node, ...globals.browser } } },
];
