"use strict";
(function () {
  document.documentElement.classList.add("js");
  const source = document.getElementById("row-data");
  for (const button of document.querySelectorAll("[data-copy]")) {
    button.addEventListener("click", async () => {
      const text = document.getElementById(button.dataset.copy).textContent;
      try { await navigator.clipboard.writeText(text); button.textContent = "copied"; }
      catch (reason) {
        const range = document.createRange();
        range.selectNodeContents(document.getElementById(button.dataset.copy));
        getSelection().removeAllRanges(); getSelection().addRange(range);
        button.textContent = "selected: copy it with the keyboard";
      }
    });
  }
  if (!source) return;
  const rows = JSON.parse(source.textContent);
  const places = new Map();
  for (const mark of document.querySelectorAll("[data-r]")) {
    if (!places.has(mark.dataset.r)) places.set(mark.dataset.r, []);
    places.get(mark.dataset.r).push(mark);
  }
  const kept = new Set();
  const shown = document.getElementById("shown");
  const search = document.getElementById("search");
  const numberOf = new Map(rows.map((row, i) => [row[0], String(i)]));
  const list = document.getElementById("labels");
  for (const row of rows) list.append(new Option(row[0], row[0]));

  function marked(row, name, on) {
    for (const mark of places.get(row) || []) {
      mark.classList.toggle(name, on);
      const button = mark.querySelector && mark.querySelector("button");
      if (button && name === "kept") button.setAttribute("aria-pressed", String(on));
      if (on && mark.tagName === "circle") mark.parentNode.append(mark);
    }
  }
  function say(near) {
    const wanted = near === null ? [...kept] : [near, ...[...kept].filter((r) => r !== near)];
    shown.replaceChildren(...wanted.map((r) => {
      const line = document.createElement("div");
      const name = document.createElement("b");
      name.textContent = rows[r][0];
      line.append(name, " " + rows[r][1]);
      return line;
    }));
    shown.classList.toggle("full", wanted.length > 0);
  }
  function address() {
    const words = [...kept].map((r) => encodeURIComponent(rows[r][0])).join(",");
    history.replaceState(null, "", words ? "#rows=" + words : location.pathname + location.search);
  }
  function keep(row, on) {
    if (on) kept.add(row); else kept.delete(row);
    marked(row, "kept", on);
  }
  function fromAddress() {
    const found = /^#rows=(.*)$/.exec(location.hash);
    if (!found) return;
    for (const row of [...kept]) keep(row, false);
    for (const word of found[1].split(",")) {
      const row = numberOf.get(decodeURIComponent(word));
      if (row !== undefined) keep(row, true);
    }
    say(null);
  }
  const over = (event) => { const at = event.target.closest("[data-r]"); return at && at.dataset.r; };
  let near = null;
  function point(row) {
    if (row === near) return;
    if (near !== null) marked(near, "near", false);
    near = row || null;
    if (near !== null) marked(near, "near", true);
    say(near);
  }
  document.addEventListener("pointerover", (event) => point(over(event)));
  document.addEventListener("focusin", (event) => point(over(event)));
  document.addEventListener("click", (event) => {
    const row = over(event);
    if (!row) return;
    keep(row, !kept.has(row)); address(); say(near);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape") clear();
  });
  function clear() {
    for (const row of [...kept]) keep(row, false);
    address(); point(null); say(null);
  }
  document.getElementById("clear").addEventListener("click", clear);
  search.form.addEventListener("submit", (event) => {
    event.preventDefault();
    const row = numberOf.get(search.value.trim());
    if (row === undefined) {
      shown.textContent = "no row is called " + search.value; shown.classList.add("full");
      return;
    }
    keep(row, true); address(); say(null);
    const line = (places.get(row) || []).find((mark) => mark.tagName === "TR");
    if (line) {
      for (let at = line; at; at = at.parentElement) if (at.tagName === "DETAILS") at.open = true;
      line.scrollIntoView({ block: "center" });
    }
  });
  window.addEventListener("hashchange", fromAddress);
  fromAddress();
})();
