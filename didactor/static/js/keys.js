// Keys of the desk and of the player, and which of them somebody has chosen otherwise. Every action has the key it comes with as its name.

import { worded } from "./words.js";
const KEPT = "didactor-keys";

function kept() {
  try {
    const map = JSON.parse(localStorage.getItem(KEPT) ?? "{}");
    return map && typeof map === "object" ? map : {};
  } catch {
    return {};
  }
}

// A chosen key for each action that has another than it comes with: {action: key}.
let chosen = typeof localStorage === "undefined" ? {} : kept();

// What a key that was pressed stands for; a key that another action has taken over stands for nothing.
export function actionOf(key, map = chosen) {
  const pressed = key.length === 1 ? key.toLowerCase() : key;
  const found = Object.keys(map).find((action) => map[action] === pressed);
  if (found) return found;
  return pressed in map ? null : pressed;
}

// The same map with one action on another key; two actions never share one: the other gets the key that is free now.
export function withKey(map, action, key, actions) {
  const pressed = key.length === 1 ? key.toLowerCase() : key;
  const before = map[action] ?? action;
  const other = actions.find((one) => one !== action && (map[one] ?? one) === pressed);
  const next = { ...map, [action]: pressed, ...(other ? { [other]: before } : {}) };
  return Object.fromEntries(Object.entries(next).filter(([one, own]) => one !== own));
}

export const typing = (event) =>
  Boolean(event.target.closest("input:not([type=radio]):not([type=checkbox]), textarea, select")) || event.ctrlKey || event.metaKey || event.altKey;

const shown = (key) => (key === " " ? worded("Space") : key.length === 1 ? key.toUpperCase() : key);

// The panel of keys: a press on one, then the key that it is to be.
function panel(box) {
  const buttons = [...box.querySelectorAll("[data-key]")];
  const actions = buttons.map((button) => button.dataset.key);
  const show = () => buttons.forEach((button) => (button.textContent = shown(chosen[button.dataset.key] ?? button.dataset.key)));
  let asked = null;
  box.addEventListener("click", ({ target }) => {
    const button = target.closest("[data-key]");
    if (target.closest("[data-keys-back]")) chosen = {};
    else if (button) {
      asked = button;
      button.textContent = worded("press …");
      return;
    } else return;
    localStorage.setItem(KEPT, JSON.stringify(chosen));
    show();
  });
  document.addEventListener(
    "keydown",
    (event) => {
      if (!asked) return;
      event.preventDefault();
      event.stopImmediatePropagation();
      if (event.key !== "Escape" && event.key !== "Tab" && event.key !== "Shift") {
        chosen = withKey(chosen, asked.dataset.key, event.key, actions);
        localStorage.setItem(KEPT, JSON.stringify(chosen));
      }
      if (event.key === "Shift") return;
      asked = null;
      show();
    },
    true,
  );
  show();
}

if (typeof document !== "undefined") {
  const box = document.querySelector("[data-keys]");
  if (box) panel(box);
}
