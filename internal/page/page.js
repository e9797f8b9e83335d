"use strict";
// Tables: a click on a heading sorts, a text filters. Without this script, all rows are there in their order.
for (const table of document.querySelectorAll("table.sortable")) {
  const body = table.tBodies[0], rows = [...body.rows];
  if (rows.length < 2) continue;
  const text = (row, i) => row.cells[i] ? row.cells[i].textContent.trim() : "";
  const number = (s) => { const n = Number(s.replace(/,/g, "")); return s !== "" && !Number.isNaN(n) ? n : null; };
  [...table.tHead.rows[0].cells].forEach((head, i) => {
    const button = document.createElement("button");
    button.type = "button";
    button.append(...head.childNodes);
    head.append(button);
    button.addEventListener("click", () => {
      const up = head.getAttribute("aria-sort") !== "ascending";
      for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
      head.setAttribute("aria-sort", up ? "ascending" : "descending");
      const sorted = [...rows].sort((a, b) => {
        const x = text(a, i), y = text(b, i), m = number(x), n = number(y);
        const order = m !== null && n !== null ? m - n : x < y ? -1 : x > y ? 1 : 0;
        return up ? order : -order;
      });
      body.append(...sorted);
    });
  });
  if (rows.length < 10) continue;
  const tools = document.createElement("div");
  tools.className = "tools";
  const input = document.createElement("input");
  input.type = "search";
  input.placeholder = "Filter these rows";
  input.setAttribute("aria-label", "Filter these rows");
  const count = document.createElement("small");
  count.setAttribute("role", "status");
  tools.append(input, count);
  input.addEventListener("input", () => {
    const wanted = input.value.toLowerCase();
    let shown = 0;
    for (const row of rows) {
      const has = row.textContent.toLowerCase().includes(wanted);
      row.classList.toggle("hidden", !has);
      if (has) shown++;
    }
    count.textContent = wanted === "" ? "" : shown + " of " + rows.length + " rows";
  });
  table.parentElement.before(tools);
}
// A link to a row that a filter hides shows it again.
addEventListener("hashchange", () => {
  const row = document.getElementById(decodeURIComponent(location.hash.slice(1)));
  if (row) { row.classList.remove("hidden"); row.scrollIntoView({ block: "center" }); }
});
// The diagram: as wide as the page, or as large as it is.
for (const diagram of document.querySelectorAll(".diagram")) {
  const svg = diagram.querySelector("svg");
  if (!svg || svg.viewBox.baseVal.width <= diagram.clientWidth) continue;
  const tools = document.createElement("div"), button = document.createElement("button");
  tools.className = "tools";
  button.type = "button";
  button.textContent = "Full size";
  button.setAttribute("aria-pressed", "false");
  button.addEventListener("click", () => {
    const whole = diagram.classList.toggle("whole");
    button.setAttribute("aria-pressed", String(whole));
    button.textContent = whole ? "Fit the page" : "Full size";
  });
  tools.append(button);
  diagram.before(tools);
}
