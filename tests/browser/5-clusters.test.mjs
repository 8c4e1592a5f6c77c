// Clusters ordered and removed; probes; a roll-out in stages with a fault in the middle; what a plan costs; what was left open.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { accessible, base, button, openSignedIn, station, until } from "./page.mjs";

let it;
const fault = (name, on) => it.context.request.put(`${base}/api/practice/faults/${name}`, { data: { on } });
before(async () => { it = await openSignedIn(); });
after(async () => {
  for (const name of ["ipv6-missing", "image-policy-forbids"]) await fault(name, false).catch(() => {});
  await it?.browser.close();
});

test("a cluster is ordered, followed stage by stage, compared with its order and removed", async () => {
  const { page } = it;
  await button(page, "Order one").click();
  const dialog = page.getByRole("dialog");
  await dialog.getByRole("textbox", { name: "Name" }).fill("Larkfield-East");
  await dialog.getByText("Did you mean larkfield-east?").waitFor();
  assert.ok(await button(dialog, "Order it").isDisabled());
  await dialog.getByRole("textbox", { name: "Name" }).fill("larkfield-east");
  await dialog.getByText("3 machines").waitFor();
  await accessible(page, "an order");
  await until(() => button(dialog, "Order it").isEnabled(), 10, "a sound order");
  await button(dialog, "Order it").click();
  await page.getByRole("heading", { name: "larkfield-east is being built" }).waitFor();
  await page.getByText("It is what was ordered").waitFor({ timeout: 60_000 });
  await accessible(page, "an order that is carried out");
  await button(page, "Show larkfield-east").click();
  await page.getByRole("heading", { name: "What runs in larkfield-east" }).waitFor();
  await button(page, "Readiness").click();
  await page.getByText("none: nothing is collected").waitFor();
  await button(page, "As ordered").click();
  await button(page, "Remove").click();
  await button(page, "Remove larkfield-east and its machines").click();
  await page.getByRole("heading", { name: "What runs in larkfield-north" }).waitFor();
  assert.equal(await page.getByText("larkfield-east", { exact: true }).count(), 0);
});

test("a probe shows which ways between nodes are broken, and the readiness list why", async () => {
  const { page } = it;
  await fault("ipv6-missing", true);
  await button(page, "Readiness").click();
  await page.getByText("north-3 has no IPv6").waitFor();
  await button(page, "Probe").click();
  const dialog = page.getByRole("dialog");
  await button(dialog, "Probe").click();
  await dialog.getByText("8 of 40 ways fail.").waitFor();
  await accessible(page, "a probe");
  await fault("ipv6-missing", false);
  await until(async () => { await button(dialog, "Probe").click(); await page.waitForTimeout(1500); return (await dialog.getByText("All 40 ways work.").count()) === 1; }, 30, "all ways");
  await button(dialog, "Close").click();
});

test("what was left open is listed with what closes it", async () => {
  const { page } = it;
  await button(page, "Left open").click();
  await page.getByText("privileged: camera-sorter").click();
  await page.getByText("Whoever takes over the container has the whole node.").last().waitFor();
  await accessible(page, "what was left open");
});

test("a plan shows what it will cost, and its roll-out stands still at a fault and is taken back", async () => {
  const { page } = it;
  await station(page, "Collect").click();
  await page.getByRole("heading", { name: "Collection from larkfield-north" }).waitFor();
  await button(page, "Sources").click();
  await page.getByRole("dialog").getByText("platform/name-service").click();
  await page.getByRole("dialog").getByText(/says nowhere where to send spans/).last().waitFor();
  await accessible(page, "the catalogue of sources");
  await button(page.getByRole("dialog"), "Close").click();
  await button(page, "Prices").click();
  await page.getByRole("textbox", { name: "A million samples" }).fill("0.25");
  await page.keyboard.press("Tab");
  await button(page, "Keep").click();
  await page.getByText(/^\d+\.\d+ EUR$/).waitFor();
  await page.getByText("Cluster events", { exact: true }).click();
  await page.getByText("What the draft costs").waitFor();
  await button(page, "One node first").click();
  await page.getByText(/^by R\. Amsel.*held: 1 of 6 agents ready on revision/).waitFor({ timeout: 60_000 });
  await page.getByText("held: its earlier agent goes on").first().waitFor();
  await accessible(page, "a held roll-out");
  // Only new pods are held up by the policy: the roll-out that goes on stands still, and nothing is lost.
  await fault("image-policy-forbids", true);
  await button(page, "Go on").click();
  await page.getByText(/standing still at an agent that does not start/).waitFor({ timeout: 60_000 });
  await fault("image-policy-forbids", false);
  await page.getByRole("button", { name: /^Go back to revision/ }).click();
  await page.getByText(/; 6 of 6 agents ready$/).waitFor({ timeout: 120_000 });
  assert.deepEqual(it.errors, []);
});
