// Searches while one types, and copies commands. Without it, the same forms and links do the same.
"use strict";

const field = document.getElementById("q");
const results = document.getElementById("results");
const count = document.getElementById("count");
const registry = document.querySelector(".home").textContent;
let asked = 0;
let waiting;

async function search() {
  const mine = ++asked;
  const where = "/?q=" + encodeURIComponent(field.value);
  const answer = await fetch(where + "&part=results").catch(() => null);
  // An answer that a later one overtook is of no use.
  if (mine !== asked || !answer || !answer.ok) return;
  results.innerHTML = await answer.text();
  // What is read aloud is the count, not the whole list.
  count.textContent = results.querySelector("h2").textContent;
  document.title = field.value ? field.value + " – " + registry : registry;
  history.replaceState(null, "", where);
}

if (field && results) {
  field.addEventListener("input", () => {
    clearTimeout(waiting);
    waiting = setTimeout(search, 120);
  });
}

for (const use of document.querySelectorAll(".use")) {
  if (!navigator.clipboard) break;
  const command = use.querySelector("details");
  const button = document.createElement("button");
  button.type = "button";
  button.textContent = "Copy";
  // One button copies what is chosen: the line of the manifest, or the command while it is shown.
  button.addEventListener("click", async () => {
    const chosen = command && command.open ? command.querySelector("code") : use.querySelector("code");
    await navigator.clipboard.writeText(chosen.textContent);
    button.textContent = "Copied";
    setTimeout(() => { button.textContent = "Copy"; }, 1500);
  });
  use.append(button);
}
