"use strict";
// The page works without this: filters, and the explanation of a cell, need it.
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const grid = document.getElementById("grid");
  if (!grid) return;
  const rows = [...grid.tBodies[0].rows];
  const form = document.getElementById("filters");
  const count = document.getElementById("count");
  const dialog = document.getElementById("why");

  const filter = () => {
    const words = form.elements.name.value.trim().toLowerCase();
    const service = form.elements.service.value;
    const state = form.elements.state.value;
    let shown = 0;
    for (const row of rows) {
      const fits = row.dataset.name.toLowerCase().includes(words) &&
        (!service || row.dataset.services.split(" ").includes(service)) &&
        (!state || row.dataset.states.split(",").includes(state)) &&
        (!form.elements.differs.checked || row.dataset.agreement === "different") &&
        (!form.elements.missing.checked || "missing" in row.dataset);
      row.hidden = !fits;
      shown += fits;
    }
    count.textContent = shown === rows.length ? `${rows.length} variables` : `${shown} of ${rows.length} variables`;
    settle();
  };
  form.addEventListener("input", filter);
  form.addEventListener("reset", () => setTimeout(filter));
  form.addEventListener("submit", (event) => event.preventDefault());
  form.hidden = false;

  // One cell, or one name, is in the order of Tab; the arrow keys move it.
  const stops = (row) => [row.querySelector("a"), ...row.querySelectorAll("td")];
  for (const row of rows) row.querySelector("a").tabIndex = -1;
  let current = null;
  const move = (stop, focus) => {
    if (!stop) return;
    if (current) current.tabIndex = -1;
    current = stop;
    stop.tabIndex = 0;
    if (focus) stop.focus();
  };
  const visible = () => rows.filter((row) => !row.hidden);
  const settle = () => {
    if (!current || current.closest("tr").hidden) {
      const first = visible()[0];
      move(first && stops(first)[0], false);
    }
  };
  grid.addEventListener("keydown", (event) => {
    const stop = event.target.closest("td, a");
    if (!stop) return;
    const seen = visible();
    const row = seen.indexOf(stop.closest("tr"));
    const all = stops(seen[row]);
    const column = all.indexOf(stop);
    const last = all.length - 1;
    const steps = {
      ArrowRight: [row, Math.min(column + 1, last)], ArrowLeft: [row, Math.max(column - 1, 0)],
      ArrowDown: [Math.min(row + 1, seen.length - 1), column], ArrowUp: [Math.max(row - 1, 0), column],
      Home: [row, 0], End: [row, last],
    };
    if (event.key in steps) {
      const [to, at] = steps[event.key];
      move(stops(seen[to])[at], true);
      event.preventDefault();
    } else if (stop.tagName === "TD" && (event.key === "Enter" || event.key === " ")) {
      explain(stop);
      event.preventDefault();
    }
  });
  grid.addEventListener("click", (event) => {
    const stop = event.target.closest("td, a");
    if (!stop) return;
    move(stop, true);
    if (stop.tagName === "TD") explain(stop);
  });

  const element = (tag, text, className) => {
    const made = document.createElement(tag);
    if (text !== undefined) made.textContent = text;
    if (className) made.className = className;
    return made;
  };
  const place = (name, number) => document.getElementById(`v-${name}`).querySelectorAll(".places tbody tr")[number];
  const explain = (cell) => {
    const name = cell.parentElement.dataset.name;
    const column = [...cell.parentElement.querySelectorAll("td")].indexOf(cell);
    const [found, numbers] = data.variables[name];
    const body = dialog.querySelector("div");
    body.replaceChildren();
    dialog.querySelector("h2").textContent = `${name} on ${data.columns[column]}`;
    const reasons = found[numbers[column]];
    if (!reasons.length) body.append(element("p", "The variable does not exist on this stage."));
    for (const [places, winner, services = [], shown = "", remarks = []] of reasons) {
      const wins = winner >= 0 ? place(name, winner) : null;
      const value = shown || (wins ? wins.cells[1].textContent : "no value");
      if (services.length) body.append(element("h3", services.join(", ")));
      const line = element("p");
      line.append(element("code", value));
      body.append(line);
      const list = element("ol");
      list.reversed = true;
      for (const number of [...places].reverse()) {
        const [layer, says, location] = [...place(name, number).cells].map((part) => part.textContent);
        const item = element("li", undefined, number === winner ? "wins" : "faint");
        item.append(`${layer}: `, element("code", says), ` (${location.trim()})${number === winner ? " – this one takes effect" : ""}`);
        list.append(item);
      }
      if (places.length) body.append(list);
      for (const remark of remarks) body.append(element("p", remark, "faint"));
    }
    const more = dialog.querySelector("a");
    more.href = `#v-${encodeURIComponent(name)}`;
    more.textContent = `All about ${name}`;
    dialog.showModal();
  };
  dialog.querySelector("a").addEventListener("click", () => dialog.close());
  dialog.addEventListener("click", (event) => { if (event.target === dialog) dialog.close(); });
  dialog.querySelector("button").addEventListener("click", () => dialog.close());

  // What is linked to is open, and all is open on paper.
  const open = () => {
    let name = location.hash.slice(1);
    try { name = decodeURIComponent(name); } catch { return; }
    const target = document.getElementById(name);
    if (target && target.tagName === "DETAILS") target.open = true;
  };
  addEventListener("hashchange", open);
  addEventListener("beforeprint", () => document.querySelectorAll("details").forEach((one) => { one.open = true; }));
  open();
  filter();
})();
