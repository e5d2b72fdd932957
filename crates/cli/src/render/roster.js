"use strict";
const table = document.querySelector("#matrix");
const bodies = [...table.tBodies];
const search = document.querySelector("#search"), standing = document.querySelector("#standing"), shown = document.querySelector("#shown");
function filter() {
  const word = search.value.trim().toLowerCase(), wanted = standing.value;
  let count = 0;
  for (const body of bodies) {
    const is = (!wanted || body.dataset.standing === wanted) && (!word || body.dataset.text.includes(word));
    body.hidden = !is;
    count += is;
  }
  shown.textContent = count + " of " + bodies.length + " shown";
}
search.addEventListener("input", filter);
standing.addEventListener("change", filter);
table.tHead.addEventListener("click", event => {
  const button = event.target.closest("button");
  if (!button) return;
  const head = button.closest("th"), place = head.cellIndex, down = head.getAttribute("aria-sort") === "ascending";
  for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", down ? "descending" : "ascending");
  const key = body => { const cell = body.rows[0].cells[place]; return cell.dataset.key ?? cell.textContent; };
  const keyed = bodies.map(body => [key(body), body]);
  keyed.sort(([a], [b]) => (isNaN(a) || isNaN(b) || a === "" || b === "" ? a.localeCompare(b) : a - b) * (down ? -1 : 1));
  table.append(...keyed.map(([, body]) => body));
});
table.addEventListener("click", event => {
  const button = event.target.closest("tbody th button");
  if (!button) return;
  const more = button.closest("tbody").rows[1], open = more.hidden;
  more.hidden = !open;
  button.setAttribute("aria-expanded", open);
});
addEventListener("keydown", event => {
  if (event.key === "/" && document.activeElement !== search) { event.preventDefault(); search.focus(); }
  if (event.key === "Escape" && document.activeElement === search) { search.value = ""; filter(); }
});
filter();
