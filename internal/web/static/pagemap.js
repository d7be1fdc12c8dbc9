// The page map of a database: one cell a page, drawn on a canvas as far as it is in
// view, so that a file of any size scrolls and zooms smoothly.
"use strict";

(() => {
  const SIZES = [2, 3, 4, 6, 8, 11, 16, 22, 32];
  const TALLEST = 384; // of the map, in CSS pixels
  const BYTES = 8; // of each page in what the server sends
  const USES = [
    "lost page",
    "table, interior",
    "table, leaf",
    "index, interior",
    "index, leaf",
    "overflow",
    "free list trunk",
    "free page",
    "pointer map",
    "lock bytes",
  ];
  let map = null;

  // The colours of what is drawn, as they are by day or by night.
  const c = {};
  function colors() {
    const probe = document.body.appendChild(document.createElement("i"));
    for (const name of ["sea", "sea-tint", "ink", "ink-2", "sheet", "paper", "rule", "deep", "brass"]) {
      probe.style.color = `var(--color-${name})`;
      c[name] = getComputedStyle(probe).color;
    }
    probe.remove();
  }

  // Each use has a pattern that does without colour.
  function drawCell(g, use, x, y, s) {
    const fill =
      { 1: c.sea, 2: c["sea-tint"], 3: c["ink-2"], 4: c.sheet, 5: c.paper, 6: c.rule, 7: c.sheet, 8: c.paper, 9: c.ink }[use] ?? c.sheet;
    g.fillStyle = fill;
    g.fillRect(x, y, s, s);
    if (s < 6) {
      if (use === 0) ((g.fillStyle = c.brass), g.fillRect(x, y, s, 1));
      else if (use === 4) ((g.fillStyle = c["ink-2"]), g.fillRect(x, y + (s >> 1), s, 1));
      else if (use === 5) ((g.fillStyle = c.sea), g.fillRect(x + (s >> 1), y, 1, s));
      return;
    }
    g.fillStyle = c["ink-2"];
    const m = Math.floor(s / 2);
    if (use === 0) {
      g.fillStyle = c.brass;
      g.fillRect(x, y, s, 1);
      g.fillRect(x, y, 1, s);
    } else if (use === 2) {
      g.fillStyle = c.sea;
      g.fillRect(x, y + s - 1, s, 1);
    } else if (use === 4) {
      for (let i = 1; i < s; i += 3) g.fillRect(x, y + i, s, 1);
    } else if (use === 5) {
      g.fillStyle = c.sea;
      for (let i = 1; i < s; i += 3) g.fillRect(x + i, y, 1, s);
    } else if (use === 6 || use === 9) {
      g.fillStyle = use === 9 ? c.sheet : c["ink-2"];
      g.fillRect(x + m, y + 1, 1, s - 2);
      g.fillRect(x + 1, y + m, s - 2, 1);
    } else if (use === 7) {
      g.fillRect(x + m, y + m, 1, 1);
    } else if (use === 8) {
      g.fillRect(x, y, s, 1);
      g.fillRect(x, y, 1, s);
      g.fillRect(x + m, y, 1, s);
      g.fillRect(x, y + m, s, 1);
    }
  }
  function drawFound(g, use, x, y, s) {
    const line = [1, 3, 9].includes(use) ? c.sheet : c.deep; // to be seen on what is dark
    g.fillStyle = c.deep;
    if (s < 4) return g.fillRect(x, y, s, s);
    g.save();
    g.beginPath();
    g.rect(x, y, s, s);
    g.clip();
    g.strokeStyle = line;
    g.lineWidth = s < 8 ? 1 : 1.25;
    g.beginPath();
    const step = s < 8 ? 3 : 5;
    for (let i = -s; i < s; i += step) {
      g.moveTo(x + i, y + s);
      g.lineTo(x + i + s, y);
    }
    g.stroke();
    g.restore();
  }
  class PageMap {
    constructor(box, data) {
      this.box = box;
      this.room = box.querySelector(".page-map-room");
      this.canvas = box.querySelector("canvas");
      this.data = new DataView(data);
      this.pages = data.byteLength / BYTES;
      this.tables = box.dataset.tables.split("\n");
      colors();
      this.cursor = Math.min(this.pages, Math.max(1, Math.floor(Number(new URL(location.href).searchParams.get("page"))) || 1));
      this.fit();
    }
    page(n) {
      const at = (n - 1) * BYTES;
      return {
        use: this.data.getUint8(at),
        origins: this.data.getUint16(at + 1, true),
        table: this.data.getUint16(at + 3, true),
        found: this.data.getUint16(at + 5, true),
      };
    }
    fit() {
      const w = this.box.clientWidth - 12,
        h = TALLEST;
      let best = SIZES[0];
      for (const s of SIZES) if (Math.ceil(this.pages / Math.max(1, Math.floor(w / s))) * s <= h) best = s;
      this.zoom(best);
    }
    zoom(size, keep = this.cursor) {
      this.size = size;
      const w = this.box.clientWidth - 12;
      this.across = Math.max(1, Math.floor(w / size));
      const rows = Math.ceil(this.pages / this.across);
      this.box.style.height = `${Math.min(TALLEST, rows * size + 4)}px`;
      this.room.style.height = `${rows * size + 2}px`;
      const at = Math.floor((keep - 1) / this.across) * size;
      if (at < this.box.scrollTop || at > this.box.scrollTop + this.box.clientHeight - size)
        this.box.scrollTop = at - this.box.clientHeight / 2;
      this.draw();
    }
    draw() {
      cancelAnimationFrame(this.due);
      this.due = requestAnimationFrame(() => this.paint());
    }
    // A cell's picture, as the pixels of a square of so many device pixels.
    tile(use, found, within, size, px) {
      const key = use * 4 + (found ? 2 : 0) + (within ? 1 : 0);
      if (this.tilesOf !== `${size} ${px}`) {
        this.tiles = [];
        this.tilesOf = `${size} ${px}`;
      }
      let t = this.tiles[key];
      if (!t) {
        const tile = new OffscreenCanvas(px, px);
        const g = tile.getContext("2d");
        g.scale(px / size, px / size);
        g.fillStyle = c.sheet;
        g.fillRect(0, 0, size, size);
        g.globalAlpha = within ? 1 : 0.14;
        const s = size - (size >= 6 ? 1 : 0);
        drawCell(g, use, 0, 0, s);
        if (found) drawFound(g, use, 0, 0, s);
        t = new Uint32Array(g.getImageData(0, 0, px, px).data.buffer);
        this.tiles[key] = t;
      }
      return t;
    }
    paint() {
      const { canvas, box, size, across } = this;
      const ratio = window.devicePixelRatio || 1;
      const px = Math.max(1, Math.round(size * ratio));
      const w = box.clientWidth,
        h = box.clientHeight;
      if (canvas.width !== Math.round(w * ratio) || canvas.height !== Math.round(h * ratio)) {
        canvas.width = Math.round(w * ratio);
        canvas.height = Math.round(h * ratio);
        canvas.style.width = `${w}px`;
        canvas.style.height = `${h}px`;
      }
      const g = canvas.getContext("2d");
      const top = box.scrollTop;
      const table = Number(document.getElementById("map-table").value),
        origin = document.getElementById("map-origin").value;
      const image = g.createImageData(canvas.width, canvas.height);
      const out = new Uint32Array(image.data.buffer);
      for (let row = Math.floor(top / size); row * size < top + h; row++) {
        const y = Math.round((row * size - top) * ratio);
        for (let i = 0; i < across; i++) {
          const n = row * across + i + 1;
          if (n > this.pages) break;
          const at = (n - 1) * BYTES;
          const within =
            (!table || this.data.getUint16(at + 3, true) === table) &&
            (origin === "" || ((this.data.getUint16(at + 1, true) >> origin) & 1) === 1);
          const t = this.tile(this.data.getUint8(at), this.data.getUint16(at + 5, true) > 0, within, size, px);
          const x = Math.round(i * size * ratio);
          for (let k = Math.max(0, -y); k < px && y + k < canvas.height; k++)
            out.set(t.subarray(k * px, (k + 1) * px), (y + k) * canvas.width + x);
        }
      }
      g.setTransform(1, 0, 0, 1, 0, 0);
      g.putImageData(image, 0, 0);
      g.setTransform(ratio, 0, 0, ratio, 0, 0);
      this.outline(g, this.cursor, c.ink, top);
      if (this.over && this.over !== this.cursor) this.outline(g, this.over, c.brass, top);
    }
    outline(g, n, stroke, top) {
      const x = ((n - 1) % this.across) * this.size,
        y = Math.floor((n - 1) / this.across) * this.size - top;
      g.strokeStyle = stroke;
      g.lineWidth = 2;
      g.strokeRect(x - 1, y - 1, this.size + 1, this.size + 1);
    }
    at(event) {
      const r = this.canvas.getBoundingClientRect();
      const i = Math.floor((event.clientX - r.left) / this.size),
        row = Math.floor((event.clientY - r.top + this.box.scrollTop) / this.size);
      const n = row * this.across + i + 1;
      return i >= 0 && i < this.across && n >= 1 && n <= this.pages ? n : 0;
    }
    words(n) {
      const p = this.page(n);
      let s = `page ${n}: ${USES[p.use] ?? "unknown"}`;
      if (p.table) s += ` of ${this.tables[p.table - 1]}`;
      if (p.found) {
        const from = [...document.querySelectorAll("#map-origin option")]
          .filter((o) => o.value !== "" && (p.origins >> o.value) & 1)
          .map((o) => o.textContent);
        s += `, ${p.found} row${p.found === 1 ? "" : "s"} recovered from ${from.join(", ")}`;
      }
      return s;
    }
    tell(n) {
      document.getElementById("map-here").textContent = n ? this.words(n) : "";
    }
    move(to) {
      this.cursor = Math.min(this.pages, Math.max(1, to));
      this.tell(this.cursor);
      this.zoom(this.size);
    }
    open(n) {
      this.move(n);
      const url = new URL(Crosswind.here());
      for (const k of ["part", "frame", "from"]) url.searchParams.delete(k);
      url.searchParams.set("page", n);
      return Crosswind.visit(url.href, { parts: ["page"] });
    }
    step(by) {
      const i = SIZES.indexOf(this.size);
      this.zoom(SIZES[Math.min(SIZES.length - 1, Math.max(0, i + by))]);
    }
  }

  async function begin() {
    const box = document.querySelector("[data-page-map]");
    if (!box || box.dataset.ready) return;
    box.dataset.ready = "1";
    const answer = await fetch(box.dataset.pageMap);
    if (!answer.ok) return;
    map = new PageMap(box, await answer.arrayBuffer());
    const { canvas } = map;
    box.addEventListener("scroll", () => map.draw());
    new ResizeObserver(() => map.zoom(map.size)).observe(box);
    canvas.addEventListener("pointermove", (e) => {
      const n = map.at(e);
      if (n === map.over) return;
      map.over = n;
      map.tell(n || map.cursor);
      map.draw();
    });
    canvas.addEventListener("pointerleave", () => {
      map.over = 0;
      map.tell(map.cursor);
      map.draw();
    });
    canvas.addEventListener("click", (e) => {
      const n = map.at(e);
      if (n) map.open(n);
    });
    canvas.addEventListener(
      "wheel",
      (e) => {
        if (!e.ctrlKey) return;
        e.preventDefault();
        map.step(e.deltaY < 0 ? 1 : -1);
      },
      { passive: false },
    );
    canvas.addEventListener("keydown", (e) => {
      const by = {
        ArrowLeft: -1,
        ArrowRight: 1,
        ArrowUp: -map.across,
        ArrowDown: map.across,
        PageUp: -10 * map.across,
        PageDown: 10 * map.across,
      }[e.key];
      if (by) map.move(map.cursor + by);
      else if (e.key === "Home") map.move(1);
      else if (e.key === "End") map.move(map.pages);
      else if (e.key === "Enter") map.open(map.cursor);
      else if (e.key === "+" || e.key === "-") map.step(e.key === "+" ? 1 : -1);
      else return;
      e.preventDefault();
    });
    for (const id of ["map-table", "map-origin"]) document.getElementById(id).addEventListener("change", () => map.draw());
    for (const b of document.querySelectorAll("[data-map-zoom]"))
      b.addEventListener("click", () => (b.dataset.mapZoom === "fit" ? map.fit() : map.step(b.dataset.mapZoom === "in" ? 1 : -1)));
    legend();
    map.tell(map.cursor);
    document.addEventListener("crosswind:visited", () => {
      const n = Number(new URL(location.href).searchParams.get("page"));
      if (n >= 1 && n <= map.pages && n !== map.cursor) map.move(n);
    });
    // By day and by night.
    const recolor = () => {
      colors();
      map.tilesOf = "";
      map.draw();
      legend();
    };
    matchMedia("(prefers-color-scheme: dark)").addEventListener("change", recolor);
    new MutationObserver(recolor).observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
  }
  function legend() {
    for (const sw of document.querySelectorAll("[data-map-swatch]")) {
      const g = sw.getContext("2d");
      if (sw.dataset.mapSwatch === "found") {
        drawCell(g, 2, 1, 1, 14);
        drawFound(g, 2, 1, 1, 14);
      } else drawCell(g, Number(sw.dataset.mapSwatch), 1, 1, 14);
      g.strokeStyle = c["ink-2"];
      g.strokeRect(0.5, 0.5, 15, 15);
    }
  }

  // A map in small, without anything to choose: the whole file at once, as large as its room allows.
  async function small() {
    for (const canvas of document.querySelectorAll("canvas[data-map-small]")) {
      if (canvas.dataset.ready) continue;
      canvas.dataset.ready = "1";
      const answer = await fetch(canvas.dataset.mapSmall);
      if (!answer.ok) {
        canvas.parentElement.hidden = true;
        continue;
      }
      const data = new DataView(await answer.arrayBuffer());
      const pages = data.byteLength / BYTES;
      const draw = () => {
        colors();
        const ratio = window.devicePixelRatio || 1;
        const { clientWidth: w, clientHeight: h } = canvas;
        canvas.width = w * ratio;
        canvas.height = h * ratio;
        const g = canvas.getContext("2d");
        g.scale(ratio, ratio);
        const size = SIZES.findLast((s) => Math.ceil(pages / Math.floor(w / s)) * s <= h) ?? SIZES[0];
        const across = Math.floor(w / size);
        const shown = Math.min(pages, across * Math.floor(h / size));
        for (let i = 0; i < shown; i++) {
          // Of a file with more pages than there is room for, each cell is the first of as many.
          const at = Math.floor((i * pages) / shown) * BYTES;
          const use = data.getUint8(at);
          const [x, y, s] = [(i % across) * size, Math.floor(i / across) * size, size - (size >= 6 ? 1 : 0)];
          drawCell(g, use, x, y, s);
          if (data.getUint16(at + 5, true)) drawFound(g, use, x, y, s);
        }
      };
      draw();
      new MutationObserver(draw).observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    }
  }

  begin();
  small();
  document.addEventListener("crosswind:visited", small);
})();
