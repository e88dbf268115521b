"use strict";
// Draws the charts of the page when they come into view, and tells what is under the cursor.
(() => {
  const NAMES = ["C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"];
  const A4 = Number(document.documentElement.dataset.a4);
  const palette = new Map();
  document.getElementById("palette").textContent.split(",").forEach((rgb, n) => palette.set(Number(rgb), n));

  const minus = (text) => text.replace(/^-/, "\u2212");
  const noteOf = (hz) => {
    const place = 69 + 12 * Math.log2(hz / A4);
    const number = Math.round(place);
    const cents = 100 * (place - number);
    const name = NAMES[((number % 12) + 12) % 12] + (Math.floor(number / 12) - 1);
    return `${name} ${cents < 0 ? "\u2212" : "+"}${Math.abs(cents).toFixed(1)} cent`;
  };
  const hertz = (hz) => `${hz.toFixed(hz < 1000 ? 2 : 1)} Hz (${noteOf(hz)})`;
  const decibels = (db, unit) => `${minus(db.toFixed(2))} ${unit}`;

  const reading = (box, point) => {
    const [across, upwards] = [box.dataset.across, box.dataset.upwards];
    switch (box.dataset.reading) {
      case "frequency":
        return `${hertz(point.x)}: ${decibels(point.y, upwards)}`;
      case "time":
        return `${point.x.toFixed(3)} s: ${minus(point.y.toPrecision(6))} ${upwards}`;
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

  // The picture of a map, point by point, to read levels from.
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

  const readMap = async (box, gd) => {
    const low = Number(box.dataset.low);
    const high = Number(box.dataset.high);
    const place = gd.layout.images[0];
    let pixels = null;
    gd.addEventListener("mousemove", async (event) => {
      pixels = pixels || (await pixelsOf(box.dataset.source));
      const { xaxis, yaxis } = gd._fullLayout;
      const frame = gd.getBoundingClientRect();
      const time = xaxis.p2d(event.clientX - frame.left - xaxis._offset);
      const hz = yaxis.p2d(event.clientY - frame.top - yaxis._offset);
      const x = Math.floor(((time - place.x) / place.sizex) * pixels.width);
      const y = Math.floor(((place.y - Math.log10(hz)) / place.sizey) * pixels.height);
      if (!(x >= 0 && x < pixels.width && y >= 0 && y < pixels.height)) return;
      const at = 4 * (y * pixels.width + x);
      const [r, g, b] = pixels.data.slice(at, at + 3);
      const index = palette.get((r << 16) | (g << 8) | b);
      if (index === undefined) return;
      const level = low + ((index + 0.5) / 256) * (high - low);
      const within = index === 0 ? "at most " : "";
      box.querySelector("output").textContent =
        `${time.toFixed(3)} s, ${hertz(hz)}: ${within}${minus(level.toFixed(1))} ${box.dataset.upwards}`;
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

  const look = {
    font: { family: "Inter, sans-serif", size: 13, color: "rgb(29,39,51)" },
    paper_bgcolor: "white",
    plot_bgcolor: "white",
  };
  const config = {
    responsive: true,
    displaylogo: false,
    modeBarButtonsToRemove: ["lasso2d", "select2d", "sendDataToCloud"],
  };

  const draw = async (box) => {
    if (box.dataset.drawn) return;
    box.dataset.drawn = "begun";
    const gd = box.querySelector(".plot");
    const plot = JSON.parse(box.querySelector("script").textContent);
    const layout = Object.assign(plot.layout, look);
    for (const image of layout.images || []) image.source = box.dataset.source;
    for (const name of ["xaxis", "yaxis", "yaxis2"]) {
      if (layout[name]) Object.assign(layout[name], { exponentformat: "none", separatethousands: false, gridcolor: "rgb(226,230,235)", linecolor: "rgb(29,39,51)", ticks: "outside" });
    }
    await Plotly.newPlot(gd, plot.data, layout, config);
    gd.on("plotly_hover", (event) => say(box, event.points));
    if (box.dataset.reading === "map") readMap(box, gd);
    walk(box, gd);
    box.dataset.drawn = "done";
  };

  // The scale of colours of a map.
  const paint = (canvas) => {
    const context = canvas.getContext("2d");
    for (const [rgb, n] of palette) {
      context.fillStyle = `#${rgb.toString(16).padStart(6, "0")}`;
      context.fillRect(n, 0, 256 - n, 1);
    }
  };
  document.querySelectorAll(".colours canvas").forEach(paint);

  const boxes = [...document.querySelectorAll(".chart")];
  const inView = new IntersectionObserver(
    (entries) => entries.filter((entry) => entry.isIntersecting).forEach((entry) => draw(entry.target)),
    { rootMargin: "300px" },
  );
  boxes.forEach((box) => inView.observe(box));

  // Paper shows all charts, as wide as it is.
  window.drawAll = () => Promise.all(boxes.map(draw));
  const paper = window.matchMedia("print");
  window.addEventListener("beforeprint", () => {
    // On paper nothing is folded away.
    document.querySelectorAll("details").forEach((part) => (part.open = true));
    boxes.forEach(draw);
    boxes.forEach((box) => {
      const gd = box.querySelector(".plot");
      if (gd.layout) Plotly.relayout(gd, { width: 680, autosize: false });
    });
  });
  window.addEventListener("afterprint", () => {
    boxes.forEach((box) => {
      const gd = box.querySelector(".plot");
      if (gd.layout) Plotly.relayout(gd, { width: null, autosize: true });
    });
  });
  if (paper.matches) window.drawAll();
})();
