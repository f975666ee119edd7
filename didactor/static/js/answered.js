// What the server says: JSON, or the plain words of a refusal.

import { worded } from "./words.js";

const kind = (answer) => answer.headers.get("Content-Type") ?? "";

// Whether it is a refusal in words.
export const inWords = (answer) => kind(answer).startsWith("text/plain");

// The words of a refusal, for a person.
export async function saysOf(answer) {
  if (inWords(answer)) return answer.text();
  return worded("This was not done: something went wrong on the way. Try again in a moment.");
}

// As JSON; a refusal in words is `{ says }`.
export async function told(answer) {
  return kind(answer).startsWith("application/json") ? answer.json() : { says: await saysOf(answer) };
}
