// Buttons that copy a field: `data-copy` names it. Where the page may not write to the clipboard the field is selected, to copy by hand.

import { worded } from "./words.js";

export async function copy(field, clipboard) {
  field.focus();
  field.select();
  try {
    await clipboard.writeText(field.value);
    return worded("Copied");
  } catch {
    return worded("Selected: copy it now");
  }
}

if (typeof document !== "undefined") {
  document.querySelectorAll("[data-copy]").forEach((button) => {
    button.hidden = false;
    button.addEventListener("click", async () => {
      button.textContent = await copy(document.getElementById(button.dataset.copy), navigator.clipboard);
    });
  });
}
