// A crossing that somebody else practises: its stones on the score.

import { Stones } from "./stones.js";

const { now } = JSON.parse(document.getElementById("practice-data").textContent);
new Stones(document.querySelector("[data-sheet]")).draw(now);
