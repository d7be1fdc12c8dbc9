// Lists: they go on as one scrolls, are gone through by key, and what is picked in them is marked together.
"use strict";

(() => {
  // A list of many rows has those in the page that are near to what is seen. The others are put away in bunches, and for each
  // of these stands a row of its height until it comes near: what the browser lays out and draws at each turn of the wheel
  // does not grow with what has come.
  const BUNCH = 20, // rows
    WHOLE = 320, // rows up to which a list is left whole, and the browser finds all of its words
    SEEN = 100, // pixels from the list's edge within which a bunch comes at once
    NEAR = 1200, // from where on it is shown
    FAR = 2400, // and beyond which it is put away
    AGAIN = 5000; // milliseconds after which a list that could not go on tries again
  const away = new WeakMap(); // the row that stands for a bunch, to its rows
  const bunches = new WeakMap(); // a row that is shown, to those of its bunch
  const all = (selector) =>
    [...document.querySelectorAll(`${selector}, tr.away`)].flatMap((row) => away.get(row)?.filter((r) => r.matches(selector)) ?? row);

  // inHand tells a bunch of which something is chosen, has the focus or is in a selection of text.
  function inHand(rows) {
    const text = getSelection();
    return rows.some(
      (r) => r.ariaSelected === "true" || r.contains(document.activeElement) || (!text.isCollapsed && text.containsNode(r, true)),
    );
  }
  function standIn(rows, height) {
    const stand = document.createElement("tr");
    stand.className = "away";
    stand.ariaHidden = "true";
    stand.style.height = `${height}px`;
    stand.insertCell().colSpan = [...rows[0].cells].reduce((n, cell) => n + cell.colSpan, 0);
    away.set(stand, rows);
    near.observe(stand);
    return stand;
  }
  function putAway(rows) {
    far.unobserve(rows[0]);
    for (const row of rows) bunches.delete(row);
    const stand = standIn(rows, rows.at(-1).getBoundingClientRect().bottom - rows[0].getBoundingClientRect().top);
    rows[0].before(stand);
    for (const row of rows) row.remove();
  }
  function shown(rows) {
    for (const row of rows) bunches.set(row, rows);
    far.observe(rows[0]);
  }
  // bringBack shows the bunch that a row stands for. What is seen stays where it is, though the bunch be of another height.
  function bringBack(stand) {
    const list = stand.closest(".list");
    const before = stand.getBoundingClientRect();
    const above = list && before.top < list.getBoundingClientRect().top;
    const rows = away.get(stand);
    near.unobserve(stand);
    away.delete(stand);
    stand.replaceWith(...rows);
    shown(rows);
    if (above) list.scrollTop += rows.at(-1).getBoundingClientRect().bottom - rows[0].getBoundingClientRect().top - before.height;
  }
  // Those that are seen come at once, and the others one with each picture, so that none has much to lay out.
  const waiting = new Set();
  const near = new IntersectionObserver(
    (seen) => {
      for (const s of seen) waiting[s.isIntersecting ? "add" : "delete"](s.target);
      if (waiting.size) bring();
    },
    { scrollMargin: `${NEAR}px` },
  );
  let next = 0;
  function bring() {
    cancelAnimationFrame(next);
    for (const stand of waiting) if (!stand.isConnected) waiting.delete(stand);
    const off = (stand) => {
      const [view, box] = [stand.closest(".list"), stand].map((el) => el.getBoundingClientRect());
      return Math.max(view.top - box.bottom, box.top - view.bottom);
    };
    const nearest = [...waiting].map((stand) => ({ stand, off: off(stand) })).sort((a, b) => a.off - b.off);
    for (const [i, { stand, off }] of nearest.entries()) {
      if (i > 0 && off > SEEN) break;
      waiting.delete(stand);
      bringBack(stand);
    }
    if (waiting.size) next = requestAnimationFrame(bring);
  }
  const far = new IntersectionObserver(
    (seen) => {
      for (const s of seen) {
        const rows = bunches.get(s.target);
        if (s.isIntersecting || !rows || !s.target.isConnected) continue;
        const view = s.target.closest(".list").getBoundingClientRect();
        const gap = Math.max(view.top - rows.at(-1).getBoundingClientRect().bottom, s.boundingClientRect.top - view.bottom);
        if (gap > NEAR && !inHand(rows)) putAway(rows);
      }
    },
    { scrollMargin: `${FAR}px` },
  );
  // bunch divides what of a list is in none yet.
  function bunch(list) {
    let rows = [];
    for (const row of [...list.children, null]) {
      const apart = !row || row.matches("[data-more], .away") || bunches.has(row);
      if (rows.length && (apart || rows.length === BUNCH)) (shown(rows), (rows = []));
      if (!apart) rows.push(row);
    }
  }
  // many tells whether a list is divided into bunches, and has it so.
  function many(list) {
    const n = [...list.children].reduce((n, row) => n + (away.get(row)?.length ?? 1), 0);
    if (n > WHOLE) bunch(list);
    return n > WHOLE;
  }
  // standIns puts away what has just come, but for the list's new end: those that are near come with the next pictures.
  function standIns(list, come) {
    const height = [...list.children].find((row) => bunches.has(row))?.getBoundingClientRect().height ?? 30;
    const put = [];
    for (const row of come) {
      if (row.matches("[data-more]")) put.push([row]);
      else if (put.length && !put.at(-1)[0].matches("[data-more]") && put.at(-1).length < BUNCH) put.at(-1).push(row);
      else put.push([row]);
    }
    return put.map((rows) => (rows[0].matches("[data-more]") ? rows[0] : standIn(rows, rows.length * height)));
  }
  addEventListener("beforeprint", () => document.querySelectorAll("tr.away").forEach(bringBack));

  // A list goes on when an end of it is about to come into view: once, though other parts of the page are swapped meanwhile,
  // and when what is in view has been drawn; or, of one of many lists, when it is asked for.
  // What comes before leaves what is seen where it is.
  const goingOn = new WeakSet();
  const goesOn = async (seen) => {
    for (const s of seen) {
      if (!s.isIntersecting || goingOn.has(s.target)) continue;
      goingOn.add(s.target);
      more.unobserve(s.target);
      const link = s.target.querySelector("a");
      const answer = await fetch(link.href, { headers: { "X-Alpine-Target": "part-list" } }).catch(() => null);
      const page = new DOMParser().parseFromString(answer?.ok ? await answer.text() : "", "text/html");
      const rows = s.target.parentElement;
      const way = s.target.dataset.more;
      const come = [...page.querySelectorAll("[data-rows]")].find((r) => r.dataset.rows === rows.dataset.rows);
      if (!come) {
        // The list has not ended: its link leads to a page that says what is wrong, and what goes on by itself tries again.
        if ("asked" in s.target.dataset) delete s.target.dataset.asked;
        else setTimeout(() => goingOn.delete(s.target) && more.observe(s.target), AGAIN);
        continue;
      }
      const got = [...come.children].filter((r) => (r.dataset.more ?? way) === way);
      const focused = s.target.contains(document.activeElement);
      const list = way === "before" && rows.closest(".list");
      const below = list && list.scrollHeight - list.scrollTop;
      const put = rows.matches(".list tbody") && many(rows) ? standIns(rows, got) : got;
      s.target.replaceWith(...put);
      if (list) list.scrollTop = list.scrollHeight - below;
      if (focused && away.has(put[0])) bringBack(put[0]);
      if (focused) got[0]?.querySelector("a")?.focus();
      ends();
      showPicks(got);
    }
  };
  const more = new IntersectionObserver(goesOn, { scrollMargin: "960px" });
  const ends = () => document.querySelectorAll("[data-rows] > [data-more]:not([data-asked])").forEach((end) => more.observe(end));
  document.addEventListener("click", (event) => {
    const target = event.target.closest("a") && event.target.closest("[data-asked]");
    if (!target || event.button || event.metaKey || event.ctrlKey || event.shiftKey) return;
    event.preventDefault();
    goesOn([{ isIntersecting: true, target }]);
  });
  let soon = 0;
  function watch() {
    clearTimeout(soon);
    soon = setTimeout(() => Crosswind.started.then(ends), 100);
  }
  document.addEventListener("crosswind:visited", watch);
  watch();

  // step chooses the next row, or the one before.
  Crosswind.step = function (by) {
    const rows = all("[data-choose]");
    const at = rows.findIndex((r) => r.getAttribute(Crosswind.markOf(r)) === "true");
    const row = rows[at < 0 ? 0 : at + by];
    const stand = row && !row.isConnected && [...document.querySelectorAll("tr.away")].find((s) => away.get(s).includes(row));
    if (stand) bringBack(stand);
    const link = row?.matches("a") ? row : row?.querySelector("a[data-swap]");
    if (link) Crosswind.choose(link);
  };

  // Records that are picked are marked together. What is picked stays so while the page does, whatever is shown of it.
  const picks = new Set(); // ids
  let lastPick = null;
  Crosswind.pick = function (row, range) {
    if (!row) return;
    const id = row.dataset.id;
    const rows = all("tr[data-id]");
    const from = range ? rows.findIndex((r) => r.dataset.id === lastPick) : -1;
    const at = rows.indexOf(row);
    if (from >= 0) for (const r of rows.slice(Math.min(from, at), Math.max(from, at) + 1)) picks.add(r.dataset.id);
    else if (!picks.delete(id)) picks.add(id);
    lastPick = id;
    showPicks();
  };
  Crosswind.letGo = function () {
    picks.clear();
    showPicks();
  };
  function showPicks(rows = all("tr[data-id]")) {
    const form = document.querySelector("form.picked");
    for (const row of rows) row.toggleAttribute("data-picked", picks.has(row.dataset.id));
    if (!form) return;
    form.hidden = picks.size === 0;
    form.elements.ids.value = [...picks].join(" ");
    const back = new URL(Crosswind.here()).searchParams; // to where the last of them stands
    if (lastPick) back.set("r", lastPick);
    form.elements.back.value = back.toString();
    form.querySelector("[data-count]").textContent = picks.size === 1 ? "1 picked record" : `${num(picks.size)} picked records`;
  }
  document.addEventListener("crosswind:visited", () => showPicks());
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-let-go]")) Crosswind.letGo();
  });
})();
