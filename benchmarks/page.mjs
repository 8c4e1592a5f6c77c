// Measures the page against a running demo and writes docs/performance-page.md. Called by `./bench page`.
import { writeFileSync, readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { cpus } from "node:os";
const { chromium } = createRequire(new URL("../tests/browser/package.json", import.meta.url))("playwright-core");

const rounds = 20;
const base = `http://127.0.0.1:${process.env.SKEVIN_PORT ?? 5180}`;
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"] });
const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, baseURL: base });
const signedIn = await context.request.post("/api/session", { data: { email: "amsel@larkfield.example", password: process.env.SKEVIN_DEMO_PASSWORD ?? "falling-clock" } });
if (signedIn.status() !== 204) throw new Error(`Nobody can sign in at ${base}: start the demo with ./start first.`);
const page = await context.newPage();
const cluster = (await (await context.request.get("/api/clusters")).json())[0].name;
const ask = (text, from, to) => `/ask?${new URLSearchParams({ cluster, q: text, ...(from ? { from: new Date(from).toISOString(), to: new Date(to).toISOString() } : {}) })}`;
const middle = (times) => [...times].sort((a, b) => a - b)[Math.floor(times.length / 2)];
const worst = (times) => [...times].sort((a, b) => a - b)[Math.floor(times.length * 0.95)];
const rows = [];
const note = (what, wanted, times, more) => { rows.push([what, wanted, `${middle(times).toFixed(1)} ms`, `${worst(times).toFixed(1)} ms`, more]); console.log(rows.at(-1).join(" | ")); };

// A letter typed until the list of completions is there or has changed.
await page.goto(ask(""));
const editor = page.locator(".cm-content");
await editor.click();
await page.evaluate(() => {
  globalThis.typed = [];
  let pressed = 0;
  addEventListener("keydown", (event) => { if (event.key.length === 1) pressed = performance.now(); }, true);
  new MutationObserver(() => { if (pressed && document.querySelector(".cm-tooltip-autocomplete li")) { globalThis.typed.push(performance.now() - pressed); pressed = 0; } }).observe(document.body, { childList: true, subtree: true, characterData: true, attributes: true });
});
for (const word of ["container.memory.wor", "k8s.node.cpu", "http_server_req"]) {
  await page.keyboard.press("Control+a");
  await page.keyboard.press("Delete");
  for (const letter of word) { await page.keyboard.type(letter); await page.waitForTimeout(180); }
  await page.keyboard.press("Escape");
}
note("keystroke to completion", "50 ms", await page.evaluate(() => globalThis.typed), "letters of three metric names, list shown or changed");

// Fifty series of 800 points: frames while a stretch is being drawn with the mouse.
const to = Math.floor(Date.now() / 15_000) * 15_000;
await page.goto(ask("http_server_requests -> rate every 15s -> highest 50", to - 800 * 15_000, to));
await page.waitForSelector("canvas", { timeout: 60_000 });
await page.waitForTimeout(3000);
const series = await page.locator("h1 + span").textContent();
const box = await page.locator(".u-over").first().boundingBox();
await page.evaluate(() => {
  // What the page does for a movement, from the event to the picture being ready to paint.
  globalThis.frames = [];
  document.querySelector(".u-over").addEventListener("mousemove", () => { const from = performance.now(); const channel = new MessageChannel(); requestAnimationFrame(() => { channel.port1.onmessage = () => globalThis.frames.push(performance.now() - from); channel.port2.postMessage(0); }); }, true);
});
await page.mouse.move(box.x + 60, box.y + 60);
await page.mouse.down();
for (let i = 0; i < 120; i++) await page.mouse.move(box.x + 60 + i * 5, box.y + 60 + (i % 40));
await page.keyboard.press("Escape");
const frames = await page.evaluate(() => globalThis.frames);
// A width that changes by a pixel makes the chart draw everything anew.
const drawn = await page.evaluate(async (times) => {
  const taken = [];
  const over = document.querySelector(".u-over").closest("[role=img]");
  for (let i = 0; i < times; i++) {
    await new Promise((done) => setTimeout(done, 50));
    taken.push(await new Promise((done) => {
      const from = performance.now();
      over.style.width = `${over.parentElement.clientWidth - 1 - (i % 3)}px`;
      requestAnimationFrame(() => { const channel = new MessageChannel(); channel.port1.onmessage = () => done(performance.now() - from); channel.port2.postMessage(0); });
    }));
  }
  return taken;
}, rounds);
note("many series of 800 points: movement to picture while dragging", "16 ms", frames, series.trim());
note("the same, all lines drawn anew", "16 ms", drawn, "its width changed by a pixel");
await page.mouse.up();

// From the press on Ask until the chart stands.
const shown = [];
for (let i = 0; i < rounds; i++) {
  await page.goto(ask(""));
  await editor.click();
  await page.keyboard.insertText(`container.cpu.time\n  -> where namespace = "auction"\n  -> rate\n  -> sum by workload\n  -> as core`.replace("\n  -> as core", i % 2 ? "\n  -> highest 5" : "\n  -> highest 4"));
  await page.keyboard.press("Escape");
  shown.push(await page.evaluate(() => new Promise((done) => {
    const button = [...document.querySelectorAll("button")].find((one) => one.textContent === "Ask");
    const from = performance.now();
    const watch = new MutationObserver(() => { if (document.querySelector("main canvas, section canvas")) { watch.disconnect(); requestAnimationFrame(() => { const channel = new MessageChannel(); channel.port1.onmessage = () => done(performance.now() - from); channel.port2.postMessage(0); }); } });
    watch.observe(document.body, { childList: true, subtree: true });
    for (const type of ["pointerdown", "mousedown", "pointerup", "mouseup", "click"]) button.dispatchEvent(new (type.startsWith("pointer") ? PointerEvent : MouseEvent)(type, { bubbles: true, button: 0, pointerType: "mouse", isPrimary: true }));
  })));
}
note("enquiry to painted chart", "300 ms", shown, "one hour, five series");

// A sheet of twelve strips over a day: from the address until the last strip is painted, then a refresh, in which nothing may move.
const strip = (title, text, by, draw = "lines") => ({ title, subtitle: `by ${by}`, text, draw, height: 96, by, about: "" });
const strips = [
  strip("Processor", "container.cpu.time -> rate -> sum by namespace -> highest 5", "namespace"), strip("Memory", "container.memory.working_set -> sum by namespace -> highest 5", "namespace"),
  strip("Processor by node", "k8s.node.cpu.time -> rate -> sum by node", "node"), strip("Memory by node", "k8s.node.memory.working_set -> sum by node", "node"),
  strip("Network received", "k8s.node.network.io -> where network.io.direction = \"receive\" -> rate -> sum by node", "node"), strip("Pods ready", "k8s.container.ready -> sum by namespace -> highest 5", "namespace", "steps"),
  strip("Restarts", "k8s.container.restart.count -> sum by workload -> highest 4 by max", "workload", "steps"), strip("Requests", "spans -> where kind = \"server\" -> count by service -> highest 5", "service"),
  strip("Time to answer", "spans -> where kind = \"server\" -> p95 duration by service -> highest 5", "service"), strip("Lines", "logs -> count by level", "level", "stack"),
  strip("Dropped", "flows -> where outcome = \"dropped\" -> count by reason", "reason", "steps"), strip("Traffic", "flows -> sum bytes by destination.namespace -> highest 5", "destination.namespace"),
];
const made = await context.request.post("/api/sheets", { data: { title: "Twelve strips", about: "Made by ./bench page", strips, version: 0 }, headers: { "X-Skevin": "1" } });
if (made.status() !== 201) throw new Error(`The sheet could not be made: ${await made.text()}`);
const sheet = await made.json();
const opened = [];
for (let i = 0; i < 8; i++) {
  await page.goto("about:blank");
  await page.goto(`/dashboards/${sheet.id}?${new URLSearchParams({ cluster, last: "86400" })}`, { waitUntil: "commit" });
  // The page's own clock begins with the address.
  opened.push(await page.evaluate(() => new Promise((done) => {
    const look = () => (document.querySelectorAll("main canvas").length >= 12 ? requestAnimationFrame(() => { const channel = new MessageChannel(); channel.port1.onmessage = () => done(performance.now()); channel.port2.postMessage(0); }) : setTimeout(look, 4));
    look();
  })));
}
note("sheet of twelve strips over 24 h: address to last strip painted", "1500 ms", opened, "eight times, the first with nothing cached; of the demo's history, whose older metrics come every 5 min");
const places = () => page.evaluate(() => [...document.querySelectorAll("main canvas")].map((one) => { const { top, left, width, height } = one.getBoundingClientRect(); return [top, left, width, height].map(Math.round).join(" "); }).join("; "));
const before = await places();
await page.evaluate(() => { globalThis.moved = 0; new PerformanceObserver((list) => { for (const entry of list.getEntries()) globalThis.moved += entry.value; }).observe({ type: "layout-shift" }); });
await page.waitForResponse((answer) => answer.url().endsWith("/api/ask"), { timeout: 40_000 });
await page.waitForTimeout(4000);
const shift = await page.evaluate(() => globalThis.moved);
const same = before === (await places());
rows.push(["the same, refreshed: what moves", "nothing", same && shift === 0 ? "nothing" : `layout shift ${shift.toFixed(4)}${same ? "" : ", charts at other places"}`, "", "places of all charts before and after, and the browser's own layout shift"]);
console.log(rows.at(-1).join(" | "));
await context.request.delete(`/api/sheets/${sheet.id}`, { headers: { "X-Skevin": "1" } });
await browser.close();

const machine = `${cpus().length} cores, ${cpus()[0].model.trim()}, ${Math.round(Number(readFileSync("/proc/meminfo", "utf8").match(/MemTotal:\s+(\d+)/)[1]) / 1048576)} GiB`;
writeFileSync(new URL("../docs/performance-page.md", import.meta.url), `# How fast the page is

Measured by \`./bench page\` in headless Chromium without a graphics processor against the running demo, on ${new Date().toISOString().slice(0, 10)}, ${machine}.

| What | Wanted | Middle | 95 of 100 within | How |
|---|---|---|---|---|
${rows.map((row) => `| ${row.join(" | ")} |`).join("\n")}
`);
