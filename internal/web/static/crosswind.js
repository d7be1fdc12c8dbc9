// What moves on every page. Pages work without it: links and forms do all;
// this only replaces parts of a page instead of the whole.
"use strict";

const Crosswind = (window.Crosswind = {});

// A page that answers a refused form has the form's address; what is looked at again
// is the page that the form was on.
if (document.body.hasAttribute("data-posted") && document.referrer.startsWith(location.origin + "/")) {
  history.replaceState(null, "", document.referrer);
}

// drawn does what would hold up the drawing of the page when its first picture is on the screen, and at the next time when
// that has changed. A page that nobody sees is not drawn, and has it soon.
const painted = new Promise((done) => {
  if (document.hidden) return done();
  new PerformanceObserver(done).observe({ type: "paint", buffered: true });
  setTimeout(done, 500); // no picture came, as of a page that is covered
});
Crosswind.drawn = (then) => painted.then(() => (document.hidden ? setTimeout(then) : requestAnimationFrame(() => setTimeout(then))));

// Alpine asks for what has the page laid out, and takes as long to start as the page to be drawn.
const started = (Crosswind.started = new Promise((resolve) => (Crosswind.start = resolve)));
function startAlpine() {
  for (const { href } of document.querySelectorAll("link[data-later]")) {
    const script = document.createElement("script");
    script.async = false; // in their order
    script.addEventListener("error", Crosswind.start); // pages work without it
    script.src = href;
    document.head.append(script);
  }
}
Crosswind.drawn(startAlpine);

// visit fetches an address of this site and puts the parts of the page that comes in place of those that are shown: those
// that are named, else all. Alpine AJAX fetches and swaps; of two answers for one part it takes the one that was asked for
// last. Which address is shown is told here, since it would tell that of an answer that was overtaken, too.
// If nobody asked for it, what is in use is left alone, however late its use began, and it gives way to what was asked for.
let visits = 0, // that somebody asked for
  fetched = 0, // all of them
  latest = "", // the address of the last that somebody asked for
  coming = ""; // the same, until it has come
// here is what the next thing that somebody asks for is asked of: a key is pressed again before its answer has come.
const here = (Crosswind.here = () => coming || location.href);
const visited = new Set(); // the addresses of all that somebody asked for
const unasked = new WeakSet(); // the parts that the last visit to fetch them fetches unasked
const partsOf = (within) => [...within.querySelectorAll('[id^="part-"]')];
const madeFor = new WeakMap(partsOf(document).map((part) => [part, location.href])); // the address of the page that a part is of
// inUse tells a part in which somebody types or presses a button, has filled in what was not sent yet, or has scrolled.
function inUse(part) {
  if (part.scrollTop > 0) return true;
  const at = document.activeElement;
  if ((at?.matches("input, textarea, select") && part.contains(at)) || part.querySelector(":active")) return true;
  return [...part.querySelectorAll("input, textarea, select")].some((field) => {
    if (field.matches("[type=hidden]")) return false;
    if (field.matches("[type=checkbox], [type=radio]")) return field.checked !== field.defaultChecked;
    if (!field.matches("select")) return field.value !== field.defaultValue;
    const given = [...field.options].filter((option) => option.defaultSelected);
    return field.value !== (given.at(-1) || field.options[0])?.value;
  });
}
// comesAlong tells a part that is fetched with others: what has not come yet, and the links to views, which keep what is chosen.
const comesAlong = (part, asked) => part.hasAttribute("aria-busy") || (asked && part.id === "part-tags" && !inUse(part));
Crosswind.visit = async function (url, { push = true, parts = null, asked = true } = {}) {
  if (asked) {
    document.dispatchEvent(new Event("crosswind:visit"));
    coming = new URL(url, location.href).href;
    visited.add((latest = coming.replace(/#.*/, "")));
  }
  const mine = asked ? ++visits : visits;
  try {
    await comes(url, push, parts, asked, mine);
  } finally {
    if (asked && mine === visits) coming = "";
  }
};
async function comes(url, push, parts, asked, mine) {
  await started;
  if (!Crosswind.ajax) return asked && location.assign(url);
  if (!asked && document.querySelector("[aria-busy]")) return;
  const fetching = partsOf(document)
    .filter((part) => !parts || parts.includes(part.id.slice("part-".length)) || comesAlong(part, asked))
    .filter((part) => asked || (part.id !== "part-said" && !inUse(part))); // what was said is read once, and stays until something is asked for
  const targets = fetching.map((part) => part.id);
  if (!targets.length) return;
  for (const part of fetching) unasked[asked ? "delete" : "add"](part);
  const wasOpen = document.querySelector(".drawer");
  let swapped;
  const once = new URL(url, location.href);
  once.hash = `visit-${++fetched}`; // the library keeps what failed, and would give it again for the same address
  try {
    swapped = await Crosswind.ajax(once.href, { targets, focus: false });
  } catch {
    // Nothing came. What waits for it would wait for ever, and hold up what the page does by itself.
    for (const part of partsOf(document)) part.removeAttribute("aria-busy");
    if (asked && mine === visits) location.assign(url);
    return;
  }
  if (!swapped) return asked && mine === visits && location.assign(url); // it was refused: the page says why
  for (const part of partsOf(document)) if (!madeFor.has(part)) madeFor.set(part, url);
  if (!swapped.length || mine !== visits) return;
  const drawer = document.querySelector(".drawer");
  if (drawer && !wasOpen) drawer.focus();
  if (!drawer && wasOpen) document.querySelector("a[data-origin]")?.focus();
  if (push) history.pushState(null, "", url);
  document.dispatchEvent(new Event("crosswind:visited"));
}
document.addEventListener("ajax:success", (event) => {
  const title = event.detail.html.querySelector("title");
  const address = event.detail.url?.replace(/#.*/, "");
  if (title && (address === latest || !visited.has(address))) document.title = title.textContent; // not that of an answer that was overtaken
});
document.addEventListener("ajax:error", (event) => {
  event.detail.html = ""; // of which nothing is swapped
});
document.addEventListener("ajax:merge", (event) => {
  const part = event.target;
  if (!unasked.has(part) || !inUse(part)) return;
  event.preventDefault();
  part.removeAttribute("aria-busy");
});
// A part that does not come stays as it is; a page without any is shown as a whole.
document.addEventListener("ajax:missing", (event) => {
  event.preventDefault();
  const { response, target } = event.detail;
  target.removeAttribute("aria-busy");
  if (!partsOf(response.html).length) location.assign(response.url);
});

window.addEventListener("popstate", () => Crosswind.visit(location.href, { push: false }).then(toChosen));

document.addEventListener("click", (event) => {
  const row = event.target.closest("tr[data-id]");
  if (row && (event.ctrlKey || event.metaKey || event.shiftKey) && !event.target.closest("a, button, input, label"))
    return Crosswind.pick(row, event.shiftKey);
  if (event.defaultPrevented || event.button || event.metaKey || event.ctrlKey || event.shiftKey) return;
  const copy = event.target.closest("[data-copy]");
  if (copy) {
    navigator.clipboard.writeText(copy.dataset.copy).then(() => {
      copy.textContent = "copied";
      setTimeout(() => (copy.textContent = "copy"), 1500);
    });
    return;
  }
  let link = event.target.closest("a[data-swap]");
  const line = !link && !event.target.closest("a, button, input, label") && event.target.closest("tr[data-choose]");
  if (line) link = line.querySelector("a[data-swap]");
  if (!link) return;
  event.preventDefault();
  choose(link);
});

// A row that is chosen is selected; a link that stands for itself is the current one.
const markOf = (Crosswind.markOf = (row) => (row.matches("a") ? "aria-current" : "aria-selected"));
function mark(row, on) {
  row.setAttribute(markOf(row), String(on));
}

// fromHere is where a link or form leads whose part of the page has stood for longer than what is chosen and shown now, or is
// about to be: what it changes is changed of that. Those that are named are what it is there to choose, which may have been
// chosen when that part came, and something else since.
function fromHere(of, leads, named = []) {
  const to = new URL(leads, location.href);
  const was = new URL(madeFor.get(of.closest('[id^="part-"]')) ?? "/", location.href);
  const now = new URL(here());
  if (was.pathname !== to.pathname || now.pathname !== to.pathname) return to.href;
  for (const name of new Set([...named, ...was.searchParams.keys(), ...to.searchParams.keys()])) {
    const then = to.searchParams.getAll(name);
    if (!named.includes(name) && was.searchParams.getAll(name).join("\n") === then.join("\n")) continue;
    now.searchParams.delete(name);
    for (const value of then) now.searchParams.append(name, value);
  }
  now.searchParams.sort();
  now.hash = to.hash;
  return now.href;
}

// still visits an address, and has a list that comes anew stay where it is.
Crosswind.still = async function (list, url, parts) {
  const at = list?.scrollTop;
  await Crosswind.visit(url, { parts });
  if (list && !list.isConnected) document.getElementById(list.id)?.scrollTo(0, at);
};

// choose follows a link that changes only some parts: it, or its row, names what it chooses of the address. What is chosen in a
// list, or on its map, leaves the list where it is.
const choose = (Crosswind.choose = async function (link) {
  const row = link.closest("[data-choose]");
  if (row) {
    for (const r of row.closest('[id^="part-"]').querySelectorAll("[data-choose]")) mark(r, r === row);
    row.scrollIntoView({ block: "nearest" });
  }
  const named = (link.dataset.names ?? row?.dataset.choose)?.split(" ");
  const to = fromHere(link, link.getAttribute("href"), named); // a link of a drawing has no text for its href
  if (to === here()) return;
  const still = row ?? link.closest(".map");
  await Crosswind.still(still?.closest(".list"), to, link.dataset.swap ? link.dataset.swap.split(" ") : null);
  if (!still) toChosen();
});

document.addEventListener("submit", (event) => {
  const form = event.target.closest("form[data-swap-form]");
  if (!form) return;
  event.preventDefault();
  const url = new URL(form.action);
  url.search = new URLSearchParams(new FormData(form)).toString();
  Crosswind.visit(form.role === "search" ? url.href : fromHere(form, url.href)); // which looks through the whole case
});

// What is uploaded tells how far it has come.
document.addEventListener("submit", (event) => {
  const form = event.target.closest("form[data-upload]");
  if (!form) return;
  event.preventDefault();
  const send = new XMLHttpRequest();
  const bar = form.querySelector("progress");
  bar.classList.remove("hidden");
  form.querySelector("button").disabled = true;
  send.upload.addEventListener("progress", (e) => (bar.value = (100 * e.loaded) / Math.max(1, e.total)));
  const over = () => {
    form.querySelector("button").disabled = false;
    bar.classList.add("hidden");
  };
  send.addEventListener("error", () => {
    over();
    const said = document.createElement("p");
    said.className = "fault";
    said.setAttribute("role", "alert");
    said.textContent = "The upload broke off, or was refused before its end. Nothing of it is kept.";
    form.before(said);
  });
  send.addEventListener("load", () => {
    if (send.status === 200) return location.assign(send.responseURL);
    const page = new DOMParser().parseFromString(send.responseText, "text/html");
    const main = page.querySelector("main");
    if (main) document.querySelector("main").replaceWith(document.adoptNode(main));
    document.dispatchEvent(new Event("crosswind:visited"));
  });
  send.open("POST", form.action);
  send.send(new FormData(form));
});

// Keys.
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") {
    const close = document.querySelector("[data-close]");
    if (document.querySelector("dialog[open]")) return;
    if (close) {
      event.preventDefault();
      close.click();
    } else if (document.activeElement === document.body) Crosswind.letGo();
    else document.activeElement.blur();
    return;
  }
  if (event.metaKey || event.ctrlKey || event.altKey || event.target.closest("input, textarea, select")) return;
  const act = {
    "/": () => document.getElementById("search")?.focus(),
    0: () => document.querySelector("a.course-case")?.click(),
    j: () => Crosswind.step(1),
    k: () => Crosswind.step(-1),
    m: () => (document.querySelector("form.picked:not([hidden]) #picked-reason") ?? document.getElementById("mark-reason"))?.focus(),
    x: () => Crosswind.pick(document.querySelector('tr[data-id][aria-selected="true"]'), false),
    X: () => Crosswind.pick(document.querySelector('tr[data-id][aria-selected="true"]'), true),
    n: () => {
      const note = document.querySelector("details.working-note");
      if (!note) return;
      note.open = true;
      note.querySelector("textarea").focus();
    },
    o: () => document.querySelector("a[data-origin]")?.click(),
    "?": () => document.querySelector("dialog.help")?.showModal(),
  }[event.key];
  const answer = document.querySelector(`a[data-answer="${CSS.escape(event.key)}"]`);
  if (answer) {
    event.preventDefault();
    choose(answer);
  } else if (act) {
    event.preventDefault();
    act();
  } else if (/^[a-z]$/.test(event.key)) {
    document.querySelector(`a[data-key="${event.key}"]`)?.click();
  } else if (/^[1-6]$/.test(event.key)) {
    document.querySelector(`a[data-stage="${event.key}"]`)?.click();
  }
});

// A conversation shows what is chosen in its middle.
function watch() {
  const chosen = document.querySelector(".said-bubble.chosen"),
    talk = chosen?.closest(".talk");
  if (talk) {
    const above = chosen.getBoundingClientRect().top - talk.getBoundingClientRect().top;
    talk.scrollTop += above - (talk.clientHeight - chosen.offsetHeight) / 2; // which leaves the pane where it is
  }
}
document.addEventListener("crosswind:visited", watch);
watch();
toChosen();

// toChosen brings a list to the row that is chosen, if it is not seen, and to what is around it.
function toChosen() {
  const row = document.querySelector('.list tr[aria-selected="true"]');
  if (!row) return;
  const list = row.closest(".list").getBoundingClientRect();
  const { top, bottom } = row.getBoundingClientRect();
  if (top < list.top + (row.closest("table").tHead?.offsetHeight ?? 0) || bottom > list.bottom) row.scrollIntoView({ block: "center" });
}

// Runs under way tell of themselves by server-sent events.
const runs = new Map(); // id to the points of its curve
function num(n) {
  return String(n).replace(/\B(?=(\d{3})+$)/g, "\u202f");
}
function span(s) {
  if (!isFinite(s)) return "–";
  return s < 90 ? `${Math.ceil(s)} s` : `${Math.floor(s / 60)} min ${String(Math.round(s % 60)).padStart(2, "0")} s`;
}
// The map of segments fills as a check goes over it, file by file.
const differing = new Map(); // id to the number of differing files
function fill(r) {
  const map = document.querySelector(`[data-map-run="${r.id}"]`);
  if (!map) return;
  let file = 0, // where the file of a cell begins
    next = 0, // and where the one after it does
    at = 0; // where the cell ends
  for (const cell of map.children) {
    if (cell.dataset.size) {
      file = next;
      next = file + Number(cell.dataset.size);
      at = file;
    }
    at = Math.min(at + 1048576, next);
    if (at <= r.bytesDone) cell.classList.remove("wait");
  }
  const found = r.found.differing || 0;
  if (found > (differing.get(r.id) || 0)) Crosswind.visit(location.href, { push: false, parts: ["verify", "course"], asked: false });
  differing.set(r.id, found);
}
function tell(r) {
  fill(r);
  for (const p of document.querySelectorAll(`[data-run-percent="${r.id}"]`)) p.textContent = r.percent;
  const box = document.querySelector(`[data-run="${r.id}"]`);
  if (!box || box.dataset.state === "done") return;
  const part = (name) => box.querySelector(`[data-part="${name}"]`);
  const points = runs.get(r.id) || [];
  runs.set(r.id, points);
  const byBytes = r.bytesTotal > 0; // or by items
  const [done, total] = byBytes ? [r.bytesDone, r.bytesTotal] : [r.itemsDone, r.itemsTotal];
  points.push([r.now, done]);
  const [t0, b0] = points[Math.max(0, points.length - 12)];
  const rate = (done - b0) / ((r.now - t0) / 1000);
  part("bar").value = r.percent;
  part("bytes").textContent = `${num(r.bytesDone)} of ${num(r.bytesTotal)}`;
  part("items").textContent = `${num(r.itemsDone)} of ${num(r.itemsTotal)}`;
  part("rate").textContent = rate > 0 ? (byBytes ? `${(rate / 1048576).toFixed(1)} MiB/s` : `${rate.toFixed(1)} /s`) : "–";
  part("left").textContent = rate > 0 ? span((total - done) / rate) : "–";
  part("found").textContent = Object.entries(r.found)
    .map(([k, n]) => `${k}: ${num(n)}`)
    .join(" · ");
  const first = points[0][0],
    width = Math.max(1, r.now - first);
  box
    .querySelector('[data-part="curve"]')
    .setAttribute(
      "d",
      points.map(([t, b], i) => `${i ? "L" : "M"}${((t - first) / width) * 600} ${35 - (33 * b) / Math.max(1, total)}`).join(""),
    );
  const log = part("log");
  const text = r.log.join("\n");
  if (log.textContent.trim() !== text.trim()) {
    log.textContent = text;
    log.scrollTop = log.scrollHeight;
  }
}
let source = null;
function listen() {
  const open = document.querySelector('[data-state="running"], [data-state="queued"], [data-run-percent]');
  const base = document.querySelector("a.course-case[href^='/case/']");
  if (!open || !base) {
    source?.close();
    source = null;
    return;
  }
  if (source) return;
  source = new EventSource(base.getAttribute("href") + "/events");
  source.addEventListener("runs", (event) => {
    const all = JSON.parse(event.data);
    all.forEach(tell);
    const shown = [...document.querySelectorAll("[data-run]")];
    const changed = shown.some((box) => {
      const r = all.find((x) => String(x.id) === box.dataset.run);
      return r && r.state !== box.dataset.state;
    });
    const open = all.some((r) => r.state === "running" || r.state === "queued");
    if (changed || !open) {
      if (!open) {
        source.close();
        source = null;
      }
      Crosswind.visit(location.href, { push: false, asked: false }).then(() => setTimeout(listen, 2000)); // what was in use is asked for again
    }
  });
}
document.addEventListener("crosswind:visited", listen);
listen();

// What is seen of the connected handsets tells of itself when it changes: the part of the
// page that waits for it is fetched again, but not while somebody is in it.
let watching = null,
  seen = ""; // what the handsets do, as they were last seen
function watchHandsets() {
  const part = document.querySelector("[data-watch]");
  if (!part) {
    watching?.close();
    watching = null;
  } else if (!watching) {
    watching = new EventSource(part.dataset.watch);
    watching.addEventListener("handsets", (event) => {
      seen = event.data;
      seeHandsets();
    });
  }
}
let seeing = false;
async function seeHandsets() {
  const part = document.querySelector("[data-watch]");
  if (seeing || !part || !seen || part.dataset.seen === seen || document.hidden || part.matches(":focus-within") || inUse(part)) return;
  const { ready } = part.dataset;
  seeing = true;
  await Crosswind.visit(location.href, { push: false, asked: false, parts: [part.id.slice("part-".length)] }).catch(() => {});
  seeing = false;
  if (document.contains(part)) return setTimeout(seeHandsets, 1000); // it was overtaken, or not answered
  if (document.querySelector("[data-watch]")?.dataset.ready !== ready)
    Crosswind.visit(location.href, { push: false, asked: false, parts: ["handset-form", "foot"] });
}
document.addEventListener("visibilitychange", seeHandsets);
document.addEventListener("focusout", () => setTimeout(seeHandsets, 0));
document.addEventListener("crosswind:visited", watchHandsets);
watchHandsets();

// Components.
// What cannot be shown of an attachment says why in its place.
document.addEventListener(
  "error",
  async (event) => {
    const shown = event.target.closest?.("img.shown, audio.shown");
    if (!shown) return;
    const answer = await fetch(shown.src);
    const why = document.createElement("span");
    why.className = "brass-text";
    why.textContent = "It cannot be shown: " + (answer.status === 422 ? await answer.text() : answer.statusText);
    shown.replaceWith(why);
  },
  true,
);

document.addEventListener("alpine:init", () => {
  Alpine.data("frame", () => ({
    init() {
      Crosswind.ajax = (url, options) => this.$ajax(url, options);
      Crosswind.start();
      setInterval(() => this.tick(), 1000);
    },
    tick() {
      const el = document.querySelector("[data-clock]");
      if (!el) return;
      const now = new Date();
      const parts = new Intl.DateTimeFormat("en-GB", {
        timeZone: el.dataset.clock,
        hour: "2-digit",
        minute: "2-digit",
        second: "2-digit",
        timeZoneName: "longOffset",
      }).formatToParts(now);
      const get = (type) => parts.find((p) => p.type === type).value;
      const offset = get("timeZoneName").replace("GMT", "") || "+00:00";
      el.textContent = `${get("hour")}:${get("minute")}:${get("second")} ${offset} \u00a0 ${now.toISOString().slice(11, 19)}Z`;
    },
    theme() {
      const root = document.documentElement;
      const dark = root.dataset.theme ? root.dataset.theme === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
      root.dataset.theme = dark ? "day" : "night";
      document.cookie = `theme=${root.dataset.theme}; path=/; max-age=31536000; samesite=strict`;
    },
    help() {
      document.querySelector("dialog.help").showModal();
    },
  }));
  // Parts of the report are dragged to their place in the list; the arrows beside them do the same.
  Alpine.data("parts", () => ({
    held: null,
    begin(event) {
      this.held = event.target.closest("li");
      event.dataTransfer.effectAllowed = "move";
      event.dataTransfer.setData("text/plain", this.held.dataset.part);
    },
    over(event) {
      const at = event.target.closest("li[draggable]");
      if (!this.held || !at || at === this.held) return;
      const box = at.getBoundingClientRect();
      at.parentElement.insertBefore(this.held, event.clientY < box.top + box.height / 2 ? at : at.nextSibling);
    },
    drop() {
      if (!this.held) return;
      const form = document.getElementById("parts-order");
      const all = [...this.$root.querySelectorAll("li[draggable]")].map((li) => li.dataset.part);
      form.elements.order.value = all.join(" ");
      this.held = null;
      form.submit();
    },
    end() {
      if (this.held) location.reload(); // it was let go elsewhere
    },
  }));
  // What is selected in the report is offered to be redacted.
  Alpine.data("redact", () => ({
    words: "",
    init() {
      document.addEventListener("mouseup", () => {
        const chosen = getSelection();
        const said = chosen.toString().trim();
        if (!said || said.length > 2000 || !chosen.anchorNode?.parentElement?.closest(".report")) return;
        this.words = said;
        if (this.$refs.words) this.$refs.words.open = true;
      });
      if (this.$refs.region) this.draw();
    },
    // A region of a picture is drawn over it, and stands in the form in percent.
    draw() {
      let drawn = null;
      const place = (event) => {
        const box = drawn.image.getBoundingClientRect();
        const within = (v) => Math.min(1, Math.max(0, v));
        const to = [within((event.clientX - box.left) / box.width), within((event.clientY - box.top) / box.height)];
        drawn.from ??= to;
        const [x, y] = to.map((v, i) => Math.min(v, drawn.from[i]));
        const [w, h] = to.map((v, i) => Math.abs(v - drawn.from[i]));
        const figure = drawn.image.parentElement.getBoundingClientRect();
        Object.assign(drawn.mark.style, {
          left: box.left - figure.left + x * box.width + "px",
          top: box.top - figure.top + y * box.height + "px",
          width: w * box.width + "px",
          height: h * box.height + "px",
        });
        return { x, y, width: w, height: h };
      };
      document.addEventListener("pointerdown", (event) => {
        const image = event.target.closest?.(".report figure img[data-picture]");
        if (!image) return;
        event.preventDefault();
        document.querySelectorAll(".region-mark").forEach((old) => old.remove());
        const mark = image.parentElement.appendChild(document.createElement("div"));
        mark.className = "region-mark";
        drawn = { image, mark };
        place(event);
      });
      document.addEventListener("pointermove", (event) => drawn && place(event));
      document.addEventListener("pointerup", (event) => {
        if (!drawn) return;
        const form = this.$refs.region.querySelector("form");
        form.elements.value.value = drawn.image.dataset.picture;
        for (const [name, v] of Object.entries(place(event))) form.elements[name].value = (v * 100).toFixed(1);
        this.$refs.region.open = true;
        drawn = null;
      });
    },
  }));
  Alpine.data("number", () => ({
    value: "",
    said: "",
    tone: "",
    keep: false,
    init() {
      // What was typed before this ran stays.
      this.value = this.$root.querySelector("input").value || this.$root.dataset.value || "";
      if (this.value) this.check();
    },
    async check() {
      const asked = this.value;
      if (!asked) {
        this.said = this.tone = "";
        this.keep = false;
        return;
      }
      const answer = await (await fetch(`/check/${this.$root.dataset.what}?v=` + encodeURIComponent(asked))).json();
      if (asked !== this.value) return;
      this.said = answer.said;
      this.tone = answer.ok ? "good" : "wait";
      this.keep = answer.wrongDigit;
    },
  }));
});
