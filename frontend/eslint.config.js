// What the scripts are held to: the recommended rules, and no arithmetic hidden in shorthand.
const js = require("@eslint/js");

const browser = Object.fromEntries(
  ["window", "document", "location", "history", "fetch", "setTimeout", "clearTimeout", "localStorage", "sessionStorage", "URL", "FormData",
    "URLSearchParams", "CSS", "Event", "CustomEvent", "XMLHttpRequest", "matchMedia", "AbortController", "DOMParser",
    "requestAnimationFrame", "cancelAnimationFrame", "setInterval", "clearInterval", "Audio", "AudioContext", "OscillatorNode", "GainNode", "HTMLElement", "console", "getComputedStyle", "Alpine", "File",
    "DataTransfer", "DOMPoint", "MouseEvent", "navigator", "getSelection", "performance", "crypto", "innerHeight", "addEventListener"].map((name) => [name, "readonly"]),
);

module.exports = [
  js.configs.recommended,
  {
    languageOptions: { ecmaVersion: 2022, sourceType: "module", globals: browser },
    rules: { eqeqeq: "error", "no-var": "error", "prefer-const": "error", "no-eval": "error", "no-implied-eval": "error" },
  },
];
