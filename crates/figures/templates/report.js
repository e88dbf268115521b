"use strict";
// Draws the charts of the page when they come into view, reads out what is under the cursor, and
// makes the tables sort and filter.
(() => {
  const NAMES = ["C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"];
  const root = document.documentElement;
  const A4 = Number(root.dataset.a4);
  const form = root.dataset.form;
  const isPaper = form === "print";
  let onPaper = isPaper;
  const palettes = new Map(
    ["map", "difference"].map((name) => {
      const colours = document.getElementById(`palette-${name}`).textContent.split(",");
      return [name, new Map(colours.map((rgb, n) => [Number(rgb), n]))];
    }),
  );
  const all = (selector, of = document) => [...of.querySelectorAll(selector)];

  // Words for numbers.

  const minus = (text) => text.replace(/^-/, "\u2212");
  const noteOf = (hz) => {
    const place = 69 + 12 * Math.log2(hz / A4);
    const number = Math.round(place);
    const cents = 100 * (place - number);
    const name = NAMES[((number % 12) + 12) % 12] + (Math.floor(number / 12) - 1);
    return `${name} ${cents < 0 ? "\u2212" : "+"}${Math.abs(cents).toFixed(1)} cent`;
  };
  const hertz = (hz) => `${hz.toFixed(hz < 1000 ? 2 : 1)} Hz (${noteOf(hz)})`;
  const seconds = (s) => `${s.toFixed(3)} s`;

  const reading = (box, point) => {
    const { across, upwards, reading: kind } = box.dataset;
    const value = (digits) => {
      const number = Number(point.y);
      return upwards === "Hz" ? hertz(number) : `${minus(digits(number))} ${upwards}`;
    };
    switch (kind) {
      case "frequency":
        return `${hertz(point.x)}: ${value((y) => (upwards.startsWith("dB") ? y.toFixed(2) : String(Number(y.toPrecision(4)))))}`;
      case "time":
        return `${seconds(point.x)}: ${value((y) => y.toPrecision(6))}`;
      default:
        return `${across} ${point.x}: ${minus(Number(point.y).toPrecision(9))}`;
    }
  };

  // A name as it was given: for the charts it is escaped.
  const literal = (name) => name.replace(/&lt;/g, "<").replace(/&gt;/g, ">").replace(/&amp;/g, "&");

  // What the points under the cursor say, each with the name of its curve where there are several.
  const say = (box, points) => {
    const named = points.filter((p) => typeof p.y === "number" && Number.isFinite(p.y));
    const several = new Set(named.map((p) => p.data.name)).size > 1;
    const words = named.map((p) => (several ? `${literal(p.data.name)}: ` : "") + reading(box, p));
    box.querySelector("output").textContent = words.join("; ");
  };

  // Spectrograms: the picture, point by point, to read levels from.

  const pixelsOf = (source) =>
    new Promise((done) => {
      const image = new Image();
      image.onload = () => {
        const canvas = document.createElement("canvas");
        canvas.width = image.width;
        canvas.height = image.height;
        const context = canvas.getContext("2d", { willReadFrequently: true });
        context.drawImage(image, 0, 0);
        done({ width: image.width, height: image.height, data: context.getImageData(0, 0, image.width, image.height).data });
      };
      image.src = source;
    });

  // Time and frequency at a place of the screen.
  const under = (gd, event) => {
    const { xaxis, yaxis } = gd._fullLayout;
    const frame = gd.getBoundingClientRect();
    return [xaxis.p2d(event.clientX - frame.left - xaxis._offset), yaxis.p2d(event.clientY - frame.top - yaxis._offset)];
  };

  const readMap = (box, gd) => {
    const low = Number(box.dataset.low);
    const high = Number(box.dataset.high);
    const palette = palettes.get(box.dataset.colours);
    let pixels = null;
    gd.addEventListener("mousemove", async (event) => {
      pixels = pixels || (await pixelsOf(box.dataset.source));
      const place = gd.layout.images[0];
      const [time, upwards] = under(gd, event);
      const isLog = gd._fullLayout.yaxis.type === "log";
      const x = Math.floor(((time - place.x) / place.sizex) * pixels.width);
      const y = Math.floor(((place.y - (isLog ? Math.log10(upwards) : upwards)) / place.sizey) * pixels.height);
      if (!(x >= 0 && x < pixels.width && y >= 0 && y < pixels.height)) return;
      const [r, g, b] = pixels.data.slice(4 * (y * pixels.width + x));
      const index = palette.get((r << 16) | (g << 8) | b);
      if (index === undefined) return;
      const level = low + ((index + 0.5) / 256) * (high - low);
      const within = index === 0 && isLog ? "at most " : "";
      const at = isLog ? hertz(upwards) : `${upwards.toFixed(1)} Bark`;
      box.querySelector("output").textContent =
        `${seconds(time)}, ${at}: ${within}${minus(isLog ? level.toFixed(1) : level.toPrecision(3))} ${box.dataset.upwards}`;
    });
  };

  // The sound of a take: a line runs through its spectrogram, and a click there goes to that time.
  const follow = (box, gd, sound) => {
    const line = document.createElement("div");
    line.className = "playhead";
    line.hidden = true;
    gd.append(line);
    const show = () => {
      const { xaxis, yaxis } = gd._fullLayout;
      const x = xaxis.d2p(sound.currentTime);
      line.hidden = x < 0 || x > xaxis._length;
      Object.assign(line.style, { left: `${xaxis._offset + x}px`, top: `${yaxis._offset}px`, height: `${yaxis._length}px` });
      if (!sound.paused && !sound.ended) requestAnimationFrame(show);
    };
    ["play", "seeked", "timeupdate"].forEach((name) => sound.addEventListener(name, show));
    let down = null;
    gd.addEventListener("pointerdown", (event) => (down = event), true);
    addEventListener("pointerup", (event) => {
      if (down && Math.hypot(event.clientX - down.clientX, event.clientY - down.clientY) < 4) {
        const [time] = under(gd, event);
        if (time >= 0 && time <= sound.duration) sound.currentTime = time;
        else if (Number.isNaN(sound.duration)) {
          sound.addEventListener("loadedmetadata", () => (sound.currentTime = time), { once: true });
          sound.load();
        }
      }
      down = null;
    });
  };

  // Arrow keys walk along the first curve.
  const walk = (box, gd) => {
    let place = -1;
    gd.addEventListener("keydown", (event) => {
      const step = { ArrowRight: 1, ArrowLeft: -1, PageDown: 25, PageUp: -25 }[event.key];
      const trace = gd.data[0];
      if (!step || box.dataset.reading === "map") return;
      event.preventDefault();
      place = Math.min(Math.max(place + step, 0), trace.x.length - 1);
      say(box, [{ x: trace.x[place], y: trace.y[place], data: trace }]);
      Plotly.Fx.hover(gd, [{ curveNumber: 0, pointNumber: place }]);
    });
  };

  // Charts of one section zoom together, along what they have in common: time, or frequency.

  const AXES = ["xaxis", "xaxis2", "yaxis", ...[2, 3, 4, 5, 6, 7, 8].map((n) => `yaxis${n}`)];
  const shared = (axis) => ["Time, s", "Frequency, Hz"].find((name) => axis?.title?.text === name);
  const toUnits = (axis, range) => (axis.type === "log" ? range.map((x) => 10 ** x) : range);
  const fromUnits = (axis, range) => (axis.type === "log" ? range.map((x) => Math.log10(x)) : range);
  const zoomed = new WeakMap();

  // What a chart must change to show the stretch that its section shows.
  const change = (gd, name, range) => {
    const layout = {};
    for (const key of AXES.filter((axis) => shared(gd.layout[axis]) === name)) {
      if (range) layout[`${key}.range`] = fromUnits(gd._fullLayout[key], range);
      else if (gd.whole[key]) layout[`${key}.range`] = [...gd.whole[key]];
      else layout[`${key}.autorange`] = true;
    }
    return layout;
  };

  const link = (box, gd) => {
    const section = box.closest("article");
    const kept = zoomed.get(section) || zoomed.set(section, new Map()).get(section);
    gd.on("plotly_relayout", (event) => {
      if (gd.isLed) return;
      retick(gd);
      for (const key of AXES) {
        const name = shared(gd.layout[key]);
        const changed = Object.keys(event).some((what) => what.startsWith(`${key}.`));
        if (!name || !changed) continue;
        const isWhole = event[`${key}.autorange`] === true;
        const range = isWhole ? null : toUnits(gd._fullLayout[key], gd._fullLayout[key].range);
        kept.set(name, range);
        for (const other of all(".plot", section).filter((plot) => plot !== gd && plot.whole)) {
          lead(other, change(other, name, range));
        }
      }
    });
    for (const [name, range] of kept) if (range) lead(gd, change(gd, name, range));
  };
  const lead = async (gd, layout) => {
    if (!Object.keys(layout).length) return;
    gd.isLed = true;
    await Plotly.relayout(gd, layout);
    await retick(gd);
    gd.isLed = false;
  };

  // Drawing.

  const config = {
    responsive: !isPaper,
    staticPlot: isPaper,
    displaylogo: false,
    showTips: false,
    modeBarButtonsToRemove: ["lasso2d", "select2d", "sendDataToCloud"],
  };
  const isDark = () => getComputedStyle(root).getPropertyValue("--paper").trim() !== "#fff";
  // Colours that are read on white are mixed with some of it on black.
  const lit = (colour) =>
    colour.replace(/rgb(a?)\((\d+), ?(\d+), ?(\d+)/, (_, a, ...rgb) => `rgb${a}(${rgb.map((x) => Math.round(0.6 * x + 102))}`);
  const inColours = (value, key) => {
    if (typeof value === "string" && /colou?r$/i.test(key)) return lit(value);
    if (Array.isArray(value)) return typeof value[0] === "object" ? value.map((one) => inColours(one, key)) : value;
    if (value && typeof value === "object") {
      return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, inColours(one, name)]));
    }
    return value;
  };

  // Round frequencies: 1, 2 and 5 in each decade, or even steps where the axis is narrow.
  const ticks = ([from, to]) => {
    const values = [];
    if (to / from > 6) {
      for (let decade = 1; decade <= to; decade *= 10) values.push(decade, 2 * decade, 5 * decade);
    } else {
      const rough = (to - from) / 6;
      const decade = 10 ** Math.floor(Math.log10(rough));
      const step = decade * ([1, 2, 5].find((one) => one * decade >= rough) || 10);
      for (let hz = Math.ceil(from / step) * step; hz <= to; hz += step) values.push(Number(hz.toPrecision(8)));
    }
    const text = values.map((hz) => (hz >= 1000 && to / from > 6 ? `${hz / 1000}k` : String(hz)));
    return { tickmode: "array", tickvals: values, ticktext: text };
  };
  const isFrequency = (axis) => axis?.type === "log" && shared(axis) === "Frequency, Hz";
  // What an axis shows at first.
  const extent = (plot, name) => {
    const axis = plot.layout[name];
    if (axis.range) return toUnits(axis, axis.range);
    const values = plot.data.flatMap((trace) => trace[name[0]]);
    return values.reduce(([low, high], x) => [Math.min(low, x), Math.max(high, x)], [Infinity, 0]);
  };
  const retick = (gd) => {
    const layout = {};
    for (const key of AXES.filter((axis) => isFrequency(gd.layout[axis]))) {
      const set = ticks(toUnits(gd._fullLayout[key], gd._fullLayout[key].range));
      if (String(set.ticktext) === String(gd._fullLayout[key].ticktext)) continue;
      for (const [name, value] of Object.entries(set)) layout[`${key}.${name}`] = value;
    }
    return Object.keys(layout).length ? lead(gd, layout) : null;
  };

  const described = (box) => {
    const plot = JSON.parse(box.querySelector("script").textContent);
    const colour = (name) => getComputedStyle(root).getPropertyValue(name).trim();
    const layout = Object.assign(plot.layout, {
      font: { family: "Inter, sans-serif", size: 13, color: colour("--ink") },
      paper_bgcolor: colour("--paper"),
      plot_bgcolor: colour("--paper"),
      hoverlabel: { bgcolor: colour("--raised"), font: { color: colour("--ink") } },
      modebar: { bgcolor: "rgba(0,0,0,0)", color: colour("--pale"), activecolor: colour("--teal") },
    });
    layout.legend = { orientation: "h", x: 0, y: 1.01, xanchor: "left", yanchor: "bottom" };
    if (onPaper) Object.assign(layout, { width: 680, height: { tall: 440, rows: 560 }[box.classList[1]] || 320, autosize: false });
    for (const image of layout.images || []) image.source = box.dataset.source;
    for (const name of AXES) {
      if (layout[name]) Object.assign(layout[name], { exponentformat: "none", separatethousands: false, gridcolor: colour("--grid"), linecolor: colour("--ink"), ticks: "outside", automargin: true });
      if (isFrequency(layout[name])) Object.assign(layout[name], ticks(extent(plot, name)));
      if (layout[name]?.title) Object.assign(layout[name].title, { font: { size: 13 }, standoff: 8 });
    }
    return { data: isDark() ? inColours(plot.data) : plot.data, layout };
  };

  // The script that draws is unpacked when the first chart comes into view.
  let drawing = null;
  const unpacked = () => {
    drawing ||= (async () => {
      const packed = Uint8Array.from(atob(document.getElementById("drawing").textContent), (c) => c.charCodeAt(0));
      const stream = new Blob([packed]).stream().pipeThrough(new DecompressionStream("gzip"));
      const script = document.createElement("script");
      script.textContent = await new Response(stream).text();
      document.head.append(script);
    })();
    return drawing;
  };

  const draw = async (box) => {
    if (box.dataset.drawn) return;
    box.dataset.drawn = "begun";
    await unpacked();
    const gd = box.querySelector(".plot");
    const { data, layout } = described(box);
    await Plotly.newPlot(gd, data, layout, config);
    box.dataset.drawn = "done";
    if (isPaper) return;
    gd.whole = Object.fromEntries(AXES.map((key) => [key, layout[key]?.autorange ? null : described(box).layout[key]?.range]));
    gd.on("plotly_hover", (event) => say(box, event.points));
    const sound = box.closest("article").querySelector("audio");
    if (box.dataset.reading === "map") {
      readMap(box, gd);
      if (sound) follow(box, gd, sound);
    }
    walk(box, gd);
    link(box, gd);
  };

  // The scale of colours of a map.
  const paint = (canvas) => {
    const context = canvas.getContext("2d");
    for (const [rgb, n] of palettes.get(canvas.closest(".chart").dataset.colours)) {
      context.fillStyle = `#${rgb.toString(16).padStart(6, "0")}`;
      context.fillRect(n, 0, 256 - n, 1);
    }
  };
  all(".colours canvas").forEach(paint);

  const boxes = all(".chart");
  const inView = new IntersectionObserver(
    (entries) => entries.filter((entry) => entry.isIntersecting).forEach((entry) => draw(entry.target)),
    { rootMargin: "300px" },
  );
  boxes.forEach((box) => inView.observe(box));

  const drawn = () => boxes.filter((box) => box.dataset.drawn === "done");
  const again = () =>
    drawn().forEach((box) => {
      const { data, layout } = described(box);
      Plotly.react(box.querySelector(".plot"), data, layout, config);
    });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", again);

  // Tables: sorted by a click on a head, filtered by a word, copied as CSV.

  const number = (text) => {
    const read = Number(text.replace(/\u2212/g, "-").replace(/[\s\u202f\u00a0,+<]/g, ""));
    return text.trim() !== "" && Number.isFinite(read) ? read : null;
  };
  const cells = (row) => [...row.cells].map((cell) => cell.textContent.trim());
  const csv = (table) => {
    const field = (text) => (/[",\n]/.test(text) ? `"${text.replace(/"/g, '""')}"` : text);
    const rows = [...table.tHead.rows, ...table.tBodies[0].rows].filter((row) => !row.hidden);
    return rows.map((row) => cells(row).map((text) => field(text.replace(/^\u2212(?=\d)/, "-"))).join(",")).join("\n") + "\n";
  };
  const copy = async (text) => {
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      const area = document.createElement("textarea");
      area.value = text;
      document.body.append(area);
      area.select();
      document.execCommand("copy");
      area.remove();
    }
  };

  const sort = (table, column, heads) => {
    const up = heads[column].getAttribute("aria-sort") !== "ascending";
    heads.forEach((head) => head.removeAttribute("aria-sort"));
    heads[column].setAttribute("aria-sort", up ? "ascending" : "descending");
    const rows = [...table.tBodies[0].rows].map((row) => {
      const text = row.cells[column].textContent.trim();
      return { row, text, value: number(text) };
    });
    // Numbers before words; what is not known stands last either way.
    rows.sort((a, b) => {
      if ((a.value === null) !== (b.value === null)) return a.value === null ? 1 : -1;
      const order = a.value === null ? a.text.localeCompare(b.text, "en", { numeric: true }) : a.value - b.value;
      return up ? order : -order;
    });
    table.tBodies[0].append(...rows.map(({ row }) => row));
  };

  const SHORT = 8;
  for (const box of isPaper ? [] : all(".table")) {
    const table = box.querySelector("table");
    const heads = [...table.tHead.rows[0].cells];
    const rows = [...table.tBodies[0].rows];
    if (rows.length < 2) continue;
    heads.forEach((head, column) => {
      if (!head.textContent.trim()) return;
      const button = document.createElement("button");
      button.textContent = head.textContent;
      button.addEventListener("click", () => sort(table, column, heads));
      head.replaceChildren(button);
    });
    const tools = document.createElement("div");
    tools.className = "tools";
    const of = table.caption ? table.caption.textContent : "takes";
    const copied = document.createElement("button");
    copied.textContent = "Copy as CSV";
    copied.setAttribute("aria-label", `Copy as CSV: ${of}`);
    copied.addEventListener("click", async () => {
      await copy(csv(table));
      copied.textContent = "Copied";
      setTimeout(() => (copied.textContent = "Copy as CSV"), 1500);
    });
    if (rows.length > SHORT) {
      const filter = document.createElement("input");
      filter.type = "search";
      filter.placeholder = "Filter rows";
      filter.setAttribute("aria-label", `Filter rows: ${of}`);
      const shown = document.createElement("span");
      shown.className = "pale";
      shown.setAttribute("aria-live", "polite");
      filter.addEventListener("input", () => {
        const word = filter.value.trim().toLowerCase();
        rows.forEach((row) => (row.hidden = !row.textContent.toLowerCase().includes(word)));
        shown.textContent = word ? `${rows.filter((row) => !row.hidden).length} of ${rows.length} rows` : "";
      });
      tools.append(filter, shown);
    }
    tools.append(copied);
    box.prepend(tools);
  }

  // The index shows where the reader is; what a link leads to is opened.

  const links = new Map(all(".index a").map((a) => [a.hash.slice(1), a]));
  const contents = document.querySelector(".index > details");
  if (matchMedia("(max-width: 940px)").matches) contents.open = false;
  const places = all("h2[id], h3[id]").filter((head) => links.has(head.id));
  const mark = () => {
    const above = places.filter((head) => head.getBoundingClientRect().top < 120);
    const current = links.get((above.pop() || places[0])?.id);
    links.forEach((a) => (a === current ? a.setAttribute("aria-current", "location") : a.removeAttribute("aria-current")));
    const { offsetTop = 0 } = current || {};
    const list = contents.parentElement;
    if (offsetTop < list.scrollTop || offsetTop > list.scrollTop + list.clientHeight - 40) list.scrollTop = offsetTop - list.clientHeight / 2;
  };
  let isWaiting = false;
  addEventListener("scroll", () => {
    if (isWaiting) return;
    isWaiting = true;
    requestAnimationFrame(() => ((isWaiting = false), mark()));
  });
  all("article > details").forEach((part) => part.addEventListener("toggle", mark));
  const reveal = () => {
    const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    const folded = target?.closest("article")?.querySelector(":scope > details");
    if (folded && !folded.open) {
      folded.open = true;
      target.scrollIntoView();
    }
  };
  addEventListener("hashchange", reveal);
  reveal();
  mark();

  // Printed is what is unfolded, in light colours and as wide as paper is.

  const drawAll = async () => {
    all("details").forEach((part) => (part.open = true));
    for (const box of boxes) {
      await draw(box);
      // Between charts the page stays at hand.
      await new Promise((next) => setTimeout(next));
    }
  };
  window.drawAll = drawAll;
  addEventListener("beforeprint", () => {
    root.dataset.form = "light";
    onPaper = true;
    again();
  });
  addEventListener("afterprint", () => {
    root.dataset.form = form;
    onPaper = isPaper;
    again();
  });
  // Where the page is printed before a chart was looked at, what draws must be there.
  (window.requestIdleCallback || setTimeout)(unpacked);
  if (isPaper) drawAll();
})();
