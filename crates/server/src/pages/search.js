// Searches while one types, and copies commands. Without it, the same forms and links do the same.
"use strict";

const field = document.getElementById("q");
const results = document.getElementById("results");
let asked = 0;
let waiting;

async function search() {
  const mine = ++asked;
  const where = "/?q=" + encodeURIComponent(field.value);
  const answer = await fetch(where + "&part=results").catch(() => null);
  // An answer that a later one overtook is of no use.
  if (mine !== asked || !answer || !answer.ok) return;
  results.innerHTML = await answer.text();
  history.replaceState(null, "", where);
}

if (field && results) {
  field.addEventListener("input", () => {
    clearTimeout(waiting);
    waiting = setTimeout(search, 120);
  });
}

for (const code of document.querySelectorAll(".copy dd code")) {
  if (!navigator.clipboard) break;
  const button = document.createElement("button");
  button.type = "button";
  button.textContent = "Copy";
  button.setAttribute("aria-label", "Copy " + code.textContent);
  button.addEventListener("click", async () => {
    await navigator.clipboard.writeText(code.textContent);
    button.textContent = "Copied";
    setTimeout(() => { button.textContent = "Copy"; }, 1500);
  });
  code.after(button);
}
