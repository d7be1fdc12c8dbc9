// The waterline chart and the map: the server draws them; this brushes, zooms and moves them.
"use strict";

(() => {
  const NS = "http://www.w3.org/2000/svg";
  const chart = () => document.querySelector("svg.waterline");

  // Of a chart: its window in milliseconds, and the strip that time takes.
  function frame(svg) {
    const d = svg.dataset;
    const f = { from: +d.from, to: +d.to, x0: +d.x0, x1: +d.x1, zone: d.zone };
    f.at = (x) => f.from + ((x - f.x0) / (f.x1 - f.x0)) * (f.to - f.from);
    return f;
  }
  function place(svg, event) {
    const box = svg.getBoundingClientRect();
    const f = frame(svg);
    const x = ((event.clientX - box.left) / box.width) * svg.viewBox.baseVal.width;
    return Math.min(f.x1, Math.max(f.x0, x));
  }
  function show(from, to) {
    const least = 60000;
    if (to - from < least) to = from + least;
    const url = new URL(Crosswind.here());
    url.searchParams.set("from", new Date(Math.round(from / 1000) * 1000).toISOString().replace(".000", ""));
    url.searchParams.set("to", new Date(Math.round(to / 1000) * 1000).toISOString().replace(".000", ""));
    url.searchParams.delete("after");
    return Crosswind.visit(url.href);
  }
  function fit() {
    const url = new URL(Crosswind.here());
    for (const k of ["from", "to", "after"]) url.searchParams.delete(k);
    return Crosswind.visit(url.href);
  }
  // shown is the window of the chart, or the one that it is about to have.
  function shown() {
    const { from, to } = frame(chart());
    if (Crosswind.here() === location.href) return { from, to };
    const asked = new URL(Crosswind.here()).searchParams;
    const next = { from: Date.parse(asked.get("from")), to: Date.parse(asked.get("to")) };
    return next.from < next.to ? next : { from, to };
  }
  function zoom(by, around) {
    const f = shown();
    const mid = around ?? (f.from + f.to) / 2;
    return show(mid - (mid - f.from) * by, mid + (f.to - mid) * by);
  }
  function move(by) {
    const f = shown();
    const d = (f.to - f.from) * by;
    return show(f.from + d, f.to + d);
  }
  function clocks(svg, x) {
    const f = frame(svg);
    const at = new Date(f.at(x));
    const local = new Intl.DateTimeFormat("en-GB", {
      timeZone: f.zone,
      day: "numeric",
      month: "short",
      year: "numeric",
      hour: "2-digit",
      minute: "2-digit",
    }).format(at);
    return `${local.replace(",", "").replace("Sept", "Sep")} · ${at.toISOString().slice(0, 16).replace("T", " ")}Z`;
  }
  function line(svg, cls, x, h) {
    let el = svg.querySelector("." + cls);
    if (!el) {
      el = document.createElementNS(NS, "path");
      el.setAttribute("class", cls);
      svg.append(el);
    }
    el.setAttribute("d", `M${x} 18V${h}`);
    return el;
  }

  // The server draws the chart to the width that it is told, and begins lists with the rows that a window of this height shows.
  const tell = (name, px) => (document.cookie = `${name}=${px}; path=/; max-age=31536000; samesite=strict`);
  function measure() {
    if (!document.cookie.split("; ").includes(`height=${innerHeight}`)) tell("height", innerHeight);
    const svg = chart();
    const width = Math.round(svg?.getBoundingClientRect().width ?? 0);
    if (!width || Math.abs(width - svg.viewBox.baseVal.width) < 8) return;
    tell("width", width);
    if (width >= 1000 && width <= 4000) Crosswind.visit(location.href, { push: false, asked: false, parts: ["chart"] });
  }
  let settled = 0;
  window.addEventListener("resize", () => {
    clearTimeout(settled);
    settled = setTimeout(measure, 200);
  });
  requestAnimationFrame(measure); // once there is a layout, which is not asked for ahead of time

  // Photographs come when the chart is drawn, which is drawn anew when they do.
  function photographs() {
    for (const image of document.querySelectorAll("svg.waterline image[data-href]")) {
      image.setAttribute("href", image.dataset.href);
      image.removeAttribute("data-href");
    }
  }
  Crosswind.drawn(photographs);
  document.addEventListener("crosswind:visited", () => Crosswind.drawn(photographs));

  // A span is drawn from where the pointer goes down, be it on a mark, which is only chosen if it does not move.
  let brush = null;
  document.addEventListener("pointerdown", (event) => {
    const svg = event.target.closest?.("svg.waterline");
    if (!svg || event.button) return;
    const x = place(svg, event);
    brush = { svg, x, to: x };
  });
  function draw(svg, x, pointer) {
    if (!brush.rect && Math.abs(x - brush.x) < 4) return;
    if (!brush.rect) {
      brush.rect = document.createElementNS(NS, "rect");
      brush.rect.setAttribute("class", "brush");
      brush.rect.setAttribute("y", 18);
      brush.rect.setAttribute("height", svg.dataset.bottom - 18);
      svg.append(brush.rect);
      svg.setPointerCapture(pointer);
    }
    brush.to = x;
    brush.rect.setAttribute("x", Math.min(x, brush.x));
    brush.rect.setAttribute("width", Math.abs(x - brush.x));
  }
  document.addEventListener("pointermove", (event) => {
    const svg = event.target.closest?.("svg.waterline");
    const said = document.querySelector("[data-cursor]");
    if (brush && !event.buttons) letGo(); // it was released elsewhere
    if (!svg) {
      if (said && !brush) said.textContent = "";
      return;
    }
    const x = place(svg, event);
    line(svg, "cursor", x, svg.dataset.bottom);
    if (brush?.svg === svg) draw(svg, x, event.pointerId);
    if (said)
      said.textContent = brush?.rect ? `${clocks(svg, Math.min(x, brush.x))} to ${clocks(svg, Math.max(x, brush.x))}` : clocks(svg, x);
  });
  function letGo() {
    brush?.rect?.remove();
    brush = null;
  }
  document.addEventListener("pointercancel", letGo);
  document.addEventListener("pointerup", () => {
    if (!brush?.rect || Math.abs(brush.to - brush.x) < 4) return letGo();
    const { svg, x, to } = brush;
    brush = null;
    const f = frame(svg);
    show(f.at(Math.min(x, to)), f.at(Math.max(x, to)));
  });
  document.addEventListener("dragstart", (event) => {
    if (event.target.closest?.("svg.waterline, svg.places")) event.preventDefault(); // the browser would drag the mark's link away
  });
  document.addEventListener("dblclick", (event) => {
    if (event.target.closest?.("svg.waterline") && !event.target.closest("a")) fit();
  });
  // Turns of the wheel, in its notches: a touch pad tells many small parts of one, and what is not pixels is lines.
  const notches = (delta, mode) => Math.max(-1, Math.min(1, (delta * (mode ? 33 : 1)) / 100));
  // Up and down zooms the chart, sideways moves it. What is turned while it is drawn is done together then.
  let busy = false,
    up = 0,
    along = 0;
  async function turned(around) {
    busy = true;
    while (chart() && (up || along)) {
      const [by, on] = [up, along];
      up = along = 0;
      await (by ? zoom(1.5 ** by, around) : move(0.25 * on));
    }
    busy = false;
    up = along = 0;
  }
  document.addEventListener(
    "wheel",
    (event) => {
      const svg = event.target.closest?.("svg.waterline");
      if (!svg) return;
      event.preventDefault();
      if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) along += notches(event.deltaX, event.deltaMode);
      else up += notches(event.deltaY, event.deltaMode);
      if (!busy) turned(frame(svg).at(place(svg, event)));
    },
    { passive: false },
  );
  document.addEventListener("keydown", (event) => {
    if (!chart() || event.metaKey || event.ctrlKey || event.altKey || event.target.closest("input, textarea, select")) return;
    const act = {
      ArrowLeft: () => move(-0.25),
      ArrowRight: () => move(0.25),
      "+": () => zoom(0.5),
      "=": () => zoom(0.5),
      "-": () => zoom(2),
    }[event.key];
    if (act) {
      event.preventDefault();
      act();
    }
  });

  // What is chosen, in a list or here, is so on the chart, too, which does not come anew for it.
  document.addEventListener("crosswind:visited", () => {
    const chosen = new URL(location.href).searchParams.get("r");
    for (const mark of document.querySelectorAll("svg.waterline :is(.pick, .photo)")) {
      const to = new URL(mark.parentElement.href.baseVal, location.href);
      mark.classList.toggle("chosen", !!chosen && to.searchParams.get("r") === chosen);
    }
  });

  // A map moves with the pointer and zooms about it: what is drawn does so at once, and it is drawn anew when that is over.
  let drag = null,
    rests = 0;
  const mapOf = (event) => event.target.closest?.("svg.places");
  const unit = (map) => map.viewBox.baseVal.width / map.getBoundingClientRect().width; // of the drawing, a pixel
  function look(map, x, y, w, h) {
    map.setAttribute("viewBox", [x, y, w, h].join(" "));
    clearTimeout(rests);
    if (!drag) rests = setTimeout(drawn, 200, map);
  }
  // Whatever else is asked for meanwhile goes first, and may be another view.
  document.addEventListener("crosswind:visit", () => {
    clearTimeout(rests);
    drag = null;
  });
  function drawn(map) {
    const { x, y, width, height } = map.viewBox.baseVal;
    const { west, north, by, flat, margin } = map.dataset;
    const inset = (margin * width) / map.dataset.width; // which the server adds
    const lat = (y) => Math.min(90, Math.max(-90, north - y / by));
    const lon = (x) => +west + x / by / flat;
    const box = [lat(y + height - inset), lon(x + inset), lat(y + inset), lon(x + width - inset)];
    const url = new URL(Crosswind.here());
    url.searchParams.set("box", box.map((f) => f.toFixed(7)).join());
    if (box[3] - box[1] > 360) url.searchParams.delete("box");
    Crosswind.still(map.closest(".list"), url.href, ["list"]);
  }
  document.addEventListener("pointerdown", (event) => {
    const map = mapOf(event);
    if (!map || event.button) return;
    const { x, y } = map.viewBox.baseVal;
    drag = { map, downX: event.clientX, downY: event.clientY, x: x + event.clientX * unit(map), y: y + event.clientY * unit(map) };
  });
  document.addEventListener("pointermove", (event) => {
    if (!drag) return;
    const { map, x, y, downX, downY } = drag;
    if (!event.buttons || !map.isConnected) return (drag = null);
    if (!drag.moves && Math.hypot(event.clientX - downX, event.clientY - downY) < 4) return;
    if (!drag.moves) map.setPointerCapture(event.pointerId);
    drag.moves = true;
    const { width, height } = map.viewBox.baseVal;
    look(map, x - event.clientX * unit(map), y - event.clientY * unit(map), width, height);
  });
  for (const over of ["pointerup", "pointercancel"]) {
    document.addEventListener(over, () => {
      if (drag?.moves) drawn(drag.map);
      drag = null;
    });
  }
  document.addEventListener(
    "wheel",
    (event) => {
      const map = mapOf(event);
      if (!map) return;
      event.preventDefault();
      const times = 1.25 ** notches(event.deltaY, event.deltaMode);
      if (times === 1) return;
      const { x, y, width, height } = map.viewBox.baseVal;
      const { left, top } = map.getBoundingClientRect();
      const px = x + (event.clientX - left) * unit(map);
      const py = y + (event.clientY - top) * unit(map);
      look(map, px - (px - x) * times, py - (py - y) * times, width * times, height * times);
    },
    { passive: false },
  );

  // The way between fixes is drawn as time goes by, the whole of it in ten seconds.
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-play]");
    if (!button) return;
    const ways = [...document.querySelectorAll(".way")].flatMap((path) => {
      const ends = path.dataset.ends.trim().split(" ");
      return path
        .getAttribute("d")
        .split(/(?=M)/)
        .map((way, i) => ({ path, way, at: +ends[i] }));
    });
    ways.sort((a, b) => a.at - b.at);
    const first = +button.dataset.play,
      last = ways[ways.length - 1].at,
      lasts = Math.max(1, last - first);
    for (const { path } of ways) path.setAttribute("d", "");
    button.disabled = true;
    let began = null,
      n = 0;
    function go(now) {
      began ??= now;
      const at = first + lasts * Math.min(1, (now - began) / 10000);
      for (; n < ways.length && ways[n].at <= at; n++) ways[n].path.setAttribute("d", ways[n].path.getAttribute("d") + ways[n].way);
      if (n < ways.length && button.isConnected) {
        button.textContent = new Date(at).toISOString().slice(0, 16).replace("T", " ") + "Z";
        return requestAnimationFrame(go);
      }
      button.textContent = "play";
      button.disabled = false;
    }
    requestAnimationFrame(go);
  });
})();
