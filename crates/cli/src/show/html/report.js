"use strict";
// Filters and sorting of the tables. Without it the page says the same, but for the rows of a long list behind the first ones.
const MOST = 500;
// States of certificates that look as those of hostnames do.
const LOOKS = { expired: "broken", revoked: "broken", "expires soon": "waits" };
const words = (cell) => cell.textContent.trim();
const compare = new Intl.Collator("en", { numeric: true }).compare;

// A table with its rows as texts: those on the page, or all that the page brings as data.
const list = (table) => {
  const body = table.tBodies[0];
  const heads = Array.from(table.tHead.rows[0].cells);
  const data = document.getElementById(`${table.id}-data`);
  const rows = data
    ? JSON.parse(data.textContent).map((cells) => ({ cells }))
    : Array.from(body.rows, (row) => ({ row, cells: Array.from(row.cells, words) }));
  const element = (one) => {
    one.row ??= body.rows[0].cloneNode(true);
    one.cells.forEach((text, at) => (one.row.cells[at].textContent = text));
    const state = heads.findIndex((head) => head.dataset.filter === "state");
    if (state >= 0) one.row.cells[state].className = LOOKS[one.cells[state]] ?? one.cells[state];
    return one.row;
  };
  let fits = () => true;
  let most = data ? MOST : Infinity;
  const show = () => {
    const found = rows.filter(fits);
    const shown = found.slice(0, most);
    if (shown.length > 0) body.replaceChildren(...shown.map(element));
    body.hidden = shown.length === 0;
    return [shown.length, found.length];
  };
  return {
    heads,
    count: rows.length,
    column: (name) => heads.findIndex((head) => head.dataset.filter === name),
    filter: (wanted) => ((fits = wanted), show()),
    sort: (at, down) => (rows.sort((a, b) => (down ? -1 : 1) * compare(a.cells[at], b.cells[at])), show()),
    all: (wanted) => ((most = wanted || !data ? Infinity : MOST), show()),
  };
};

for (const table of document.querySelectorAll("table.sortable")) {
  const rows = list(table);
  const form = document.querySelector(`form[data-for="${table.id}"]`);
  const more = document.querySelector(`p.more[data-for="${table.id}"]`);
  const tell = ([shown, found]) => {
    if (form) {
      form.querySelector("output").textContent =
        found === rows.count ? `${found} hostnames` : `${found} of ${rows.count} hostnames`;
    }
    if (more) {
      more.firstChild.textContent = `These are the first ${shown} of ${found}. `;
      more.hidden = shown === found;
    }
  };
  rows.heads.forEach((head, at) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = words(head);
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      rows.heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      tell(rows.sort(at, down));
    });
  });
  if (form) {
    const apply = () => {
      const text = form.elements.text.value.trim().toLowerCase();
      const chosen = Array.from(form.querySelectorAll("select"))
        .filter((select) => select.value !== "")
        .map((select) => [rows.column(select.name), select.value]);
      const fits = ({ cells }) =>
        chosen.every(([at, value]) => cells[at] === value) && cells.some((cell) => cell.toLowerCase().includes(text));
      tell(rows.filter(fits));
    };
    form.addEventListener("input", apply);
    form.addEventListener("submit", (event) => event.preventDefault());
    form.hidden = false;
    tell([Math.min(rows.count, table.tBodies[0].rows.length), rows.count]);
  }
  if (more) {
    const button = more.querySelector("button");
    button.hidden = false;
    button.addEventListener("click", () => tell(rows.all(true)));
    // Paper has no button.
    addEventListener("beforeprint", () => tell(rows.all(true)));
    addEventListener("afterprint", () => tell(rows.all(false)));
  }
}
