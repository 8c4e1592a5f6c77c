// People, with whose eyes one looks, what is written down; and where a series comes from.
import assert from "node:assert/strict";
import { readFile } from "node:fs/promises";
import { after, before, test } from "node:test";
import { accessible, base, button, openSignedIn } from "./page.mjs";

let it;
before(async () => { it = await openSignedIn(); });
after(async () => { await it?.browser.close(); });

test("a series says which agents and rights it comes from, and its label narrows the enquiry", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?${new URLSearchParams({ cluster: "larkfield-north", last: "10m", q: "container.cpu.time\n  -> rate\n  -> sum by workload" })}`);
  await page.getByRole("row", { name: /^ledger/ }).click();
  await page.getByRole("heading", { name: "Where it comes from" }).waitFor();
  await page.getByText("get nodes/proxy: Usage, from each node's stats summary.").first().waitFor();
  await page.getByText(/agent on north-\d/).first().waitFor();
  await accessible(page, "where a series comes from");
  await page.getByRole("complementary").getByRole("button", { name: "ledger", exact: true }).click();
  await page.getByText('where workload = "ledger"').waitFor();
});

test("an answer is saved whole in the form that is wanted", async () => {
  const { page } = it;
  for (const [form, head] of [["CSV", "time,workload,value"], ["JSON Lines", '{"time":'], ["Parquet", "PAR1"]]) {
    await page.getByRole("button", { name: /^Save all/ }).click();
    const saved = page.waitForEvent("download");
    await page.getByRole("menuitem", { name: form }).click();
    assert.equal((await readFile(await (await saved).path())).subarray(0, head.length).toString("latin1"), head);
  }
});

test("a draft of the plan says what it changes and what follows of it", async () => {
  const { page } = it;
  await page.goto(`${base}/collect?cluster=larkfield-north`);
  await button(page, "Look closely for 15 min").click();
  await page.getByText(/every 1 s until .* UTC, then every/).waitFor();
  await page.getByText(/times the samples of metrics while the close look lasts/).waitFor();
  await button(page, "all namespaces").last().click();
  await page.getByText("All namespaces, also those that come later").click();
  await page.getByText("Choose at least one, or switch the source off.").waitFor();
  await page.getByRole("dialog").getByText("payout", { exact: true }).click();
  await button(page, "Take over into the draft").click();
  await page.getByText("Spans: from all namespaces → from payout").waitFor();
  await page.getByText(/sources? of traces ends?: what rules and sheets ask/).waitFor();
  await accessible(page, "a draft of the plan");
  await button(page, "Undo changes").click();
});

test("replay offers other bounds and times, one is taken over, an incident is written up", async () => {
  const { page } = it;
  await page.goto(`${base}/alarms?${new URLSearchParams({ cluster: "larkfield-north", rule: "new", q: 'http_server_request_duration_seconds -> where workload = "settle" and quantile = "0.95" -> max by namespace, workload every 5s' })}`);
  await page.getByText("There is no bound yet").waitFor();
  await page.getByLabel("Bound", { exact: true }).fill("2s");
  const row = page.getByRole("table", { name: "Other bounds and times" }).getByRole("row", { name: /^1s 5m/ });
  await row.click();
  assert.equal(await page.getByLabel("Bound", { exact: true }).inputValue(), "1s");
  assert.equal(await page.getByLabel("Hold", { exact: true }).inputValue(), "5m");
  await button(page, "Write up an incident").click();
  await page.getByRole("textbox", { name: "What was wrong" }).fill("bids were turned away");
  await button(page, "Write it up").click();
  await button(page, "Take out bids were turned away").waitFor();
  await accessible(page, "incidents");
  await page.getByRole("dialog").getByRole("button", { name: "Close" }).click();
  await page.getByText(/[01] of 1/).waitFor();
  await accessible(page, "replay");
  await button(page, "Leave").click();
});

test("a keeper adds a person, looks with their eyes, and finds both in the audit log", async () => {
  const { page } = it;
  await button(page, "R. Amsel").click();
  await button(page, "People and audit log").click();
  await button(page, "Add a person").click();
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("B. Wren");
  await page.getByRole("textbox", { name: "E-mail" }).fill("no address");
  await page.getByRole("textbox", { name: "Namespaces" }).fill("auction, payout");
  await button(page, "Add").click();
  await page.getByText("This is no e-mail address.").waitFor();
  await page.getByRole("textbox", { name: "E-mail" }).fill("wren@larkfield.example");
  await button(page, "Add").click();
  await page.getByText("The password of wren@larkfield.example is").waitFor();
  await accessible(page, "people");

  await page.getByRole("row", { name: /wren@larkfield.example/ }).click();
  await button(page, "See as B. Wren").click();
  await page.getByText("You see what B. Wren sees; nothing can be changed.").waitFor();
  await page.getByRole("heading", { name: "What runs in larkfield-north" }).waitFor();
  // Only their namespaces, no nodes, and nothing that could be changed.
  await page.getByRole("cell", { name: "payout", exact: true }).first().waitFor();
  assert.equal(await page.getByRole("cell", { name: "coldstore", exact: true }).count(), 0);
  assert.ok(await button(page, "Disconnect").isDisabled());
  await accessible(page, "another's eyes");
  await button(page, "Be yourself again").click();
  await page.getByRole("heading", { name: "People" }).waitFor();

  await button(page, "Audit log").click();
  await page.getByRole("textbox", { name: "Find in the audit log" }).fill("wren");
  await page.getByRole("cell", { name: "looked with a person's eyes" }).first().waitFor();
  await page.getByRole("cell", { name: "made a person" }).first().waitFor();
  await accessible(page, "audit log");
});

test("the page has thrown nothing", () => assert.deepEqual(it.errors, []));
