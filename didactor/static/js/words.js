// What is said to people, in their language: the page brings the messages along (/words/…), without them it is English.

const filled = (pattern, values) => pattern.replace(/\{(\w+)\}/g, (whole, name) => (name in values ? String(values[name]) : whole));

// The pattern with its values: worded("at {tempo}", { tempo: 60 }).
export const worded = (pattern, values = {}) => filled(globalThis.gettext?.(pattern) ?? pattern, values);

// The same by how many there are; {count} stands for the number.
export const counted = (one, many, count, values = {}) => filled(globalThis.ngettext?.(one, many, count) ?? (count === 1 ? one : many), { count, ...values });

// A number with so many digits after its point, or comma.
export const figure = (value, digits) => value.toFixed(digits).replace(".", (1.5).toLocaleString(globalThis.document?.documentElement.lang || "en").charAt(1));
