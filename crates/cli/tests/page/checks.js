// What a page must have for those who use a keyboard or a screen reader, and for weak eyes (WCAG 2.2,
// level AA). Returns what is wrong.
const faults = [];
const shown = (e) => {
  const style = getComputedStyle(e);
  return e.getClientRects().length > 0 && style.visibility !== "hidden" && !e.closest("[aria-hidden=true]");
};
const all = (selector) => [...document.querySelectorAll(selector)];
const own = (e) => !e.closest(".plot");
const nameOf = (e) => (e.getAttribute("aria-label") || e.textContent || e.getAttribute("alt") || "").trim();

// Language, title, landmarks.
if (!document.documentElement.lang) faults.push("no language");
if (!document.title.trim()) faults.push("no title");
for (const name of ["main", "header", "nav", "footer"]) {
  if (all(name).length !== 1) faults.push(`${all(name).length} of ${name}`);
}
const regions = all("section, article, [role=region]").filter((e) => !e.hasAttribute("aria-labelledby") && !e.hasAttribute("aria-label"));
regions.forEach((e) => faults.push(`a ${e.tagName} without a name`));
all("[aria-labelledby]").forEach((e) => document.getElementById(e.getAttribute("aria-labelledby")) || faults.push("a label that is not there"));

// Headings go down by one.
let level = 0;
for (const head of all("h1, h2, h3, h4, h5, h6")) {
  const now = Number(head.tagName[1]);
  if (now > level + 1) faults.push(`h${now} behind h${level}`);
  level = now;
}
if (all("h1").length !== 1) faults.push("not one h1");

// Names of what is operated, and no id twice.
all("a[href], button, input, summary, audio, [role=img]").filter(own).filter(shown).forEach((e) => {
  if (!nameOf(e)) faults.push(`a ${e.tagName} without a name`);
});
all("a[href^='#']").filter(own).forEach((a) => document.getElementById(a.hash.slice(1)) || faults.push(`${a.hash} leads nowhere`));
const ids = all("[id]").filter(own).map((e) => e.id);
ids.filter((id, n) => ids.indexOf(id) !== n).forEach((id) => faults.push(`${id} twice`));

// Tables: heads of columns and rows, a name.
all("table").forEach((table) => {
  const name = table.caption || table.closest("[aria-label]");
  if (!name) faults.push("a table without a name");
  table.querySelectorAll("thead th:not([scope=col]), tbody tr > :first-child:not([scope=row])").forEach(() => faults.push("a head without a scope"));
});

// What scrolls or is drawn can be reached by keys.
all(".wide, .plot").filter(shown).forEach((e) => e.tabIndex === 0 || faults.push(`${e.className} cannot be reached`));

// Contrast of all text with what it stands on.
const numbers = (colour) => (colour.match(/[\d.]+/g) || []).map(Number);
const light = ([r, g, b]) => {
  const linear = [r, g, b].map((x) => x / 255).map((x) => (x <= 0.04045 ? x / 12.92 : ((x + 0.055) / 1.055) ** 2.4));
  return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2];
};
const ground = (e) => {
  for (let at = e; at; at = at.parentElement) {
    const [r, g, b, a = 1] = numbers(getComputedStyle(at).backgroundColor);
    if (a > 0.5) return [r, g, b];
  }
  return [255, 255, 255];
};
const seen = new Set();
const words = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
for (let node = words.nextNode(); node; node = words.nextNode()) {
  const e = node.parentElement;
  if (!node.textContent.trim() || seen.has(e) || e.closest("script, style, .skip") || !shown(e)) continue;
  seen.add(e);
  const style = getComputedStyle(e);
  const inChart = e.closest("svg") !== null;
  const colour = numbers(inChart ? style.fill : style.color);
  if (colour.length < 3) continue;
  const [high, low] = [light(colour), light(ground(e.closest(".plot") || e))].sort((a, b) => b - a);
  const contrast = (high + 0.05) / (low + 0.05);
  const size = parseFloat(style.fontSize);
  const least = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700) ? 3 : 4.5;
  if (contrast < least) faults.push(`"${node.textContent.trim().slice(0, 30)}" has a contrast of ${contrast.toFixed(2)}`);
}
return faults;
