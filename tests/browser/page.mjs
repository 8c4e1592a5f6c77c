// One browser and one signed-in page for all browser tests.
import assert from "node:assert/strict";
import { AxeBuilder } from "@axe-core/playwright";
import { chromium } from "playwright-core";

export const base = `http://127.0.0.1:${process.env.SKEVIN_PORT}`;
export const control = `http://127.0.0.1:${Number(process.env.SKEVIN_PRACTICE_PORT) + 3}`;
const flags = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"];

export async function open() {
  const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: flags });
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme: "light" });
  const page = await context.newPage();
  const errors = [];
  page.on("pageerror", (error) => errors.push(error.message));
  page.setDefaultTimeout(20_000);
  return { browser, context, page, errors };
}

/** The same, signed in as the demo's person, where a cluster is connected. */
export async function openSignedIn() {
  const it = await open();
  await it.page.goto(base);
  await it.page.getByLabel("E-mail").fill("amsel@larkfield.example");
  await it.page.getByLabel("Password").fill(process.env.SKEVIN_DEMO_PASSWORD);
  await button(it.page, "Sign in").click();
  await it.page.getByRole("heading", { name: "What runs in larkfield-north" }).waitFor();
  return it;
}

/** WCAG 2.2 AA by axe; what it finds is named. */
export async function accessible(page, where) {
  // Rows of a list are alike: of each list the first dozen is looked at, because axe takes minutes over hundreds.
  const { violations } = await new AxeBuilder({ page }).exclude("[role=row]:nth-child(n+13), tr:nth-child(n+13), [aria-label=Lines] > *:nth-child(n+13)").withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]).analyze();
  assert.deepEqual(violations.map((violation) => `${where}: ${violation.id} at ${violation.nodes.map((node) => node.target.join(" ")).slice(0, 3).join(", ")}`), []);
}

/** Looks again until something holds. */
export async function until(look, seconds, what) {
  const end = Date.now() + seconds * 1000;
  for (;;) {
    const seen = await look().catch((error) => (Date.now() > end ? Promise.reject(error) : null));
    if (seen) return seen;
    assert.ok(Date.now() < end, `waited ${seconds} s for ${what}`);
    await new Promise((resolve) => setTimeout(resolve, 300));
  }
}

export const button = (page, name) => page.getByRole("button", { name, exact: true });
export const station = (page, name) => page.getByRole("navigation", { name: "Stations" }).getByRole("link", { name });
