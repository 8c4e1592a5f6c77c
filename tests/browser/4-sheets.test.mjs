// Own sheets, made by keyboard alone and from files; what the clusters hold; trimming.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { accessible, base, button, openSignedIn, until } from "./page.mjs";

let it;
before(async () => { it = await openSignedIn(); });
after(async () => { await it?.browser.close(); });

test("a sheet is built, reordered, undone and kept by keyboard alone", async () => {
  const { page } = it;
  const press = async (name) => { await button(page, name).focus(); await page.keyboard.press("Enter"); };
  const write = async (label, text) => { await page.getByRole("textbox", { name: label, exact: true }).focus(); await page.keyboard.type(text); };
  await page.keyboard.press("5");
  await page.getByRole("heading", { name: "Cluster resources" }).waitFor();
  await page.getByRole("button", { name: /^More/ }).focus();
  await page.keyboard.press("Enter");
  await page.getByRole("menuitem", { name: "New sheet" }).waitFor();
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "A new sheet" }).waitFor();
  await write("Title", "Morning watch");
  for (const [title, text] of [["Lines", "logs -> count by level every 1m"], ["Spans", "spans -> count by service every 1m"]]) {
    await press("Add a strip");
    await page.getByRole("heading", { name: "A new strip" }).waitFor();
    await page.getByRole("complementary").getByRole("textbox", { name: "Title" }).focus();
    await page.keyboard.type(title);
    await write("Enquiry", text);
    await press("Add it");
    await page.getByRole("group", { name: new RegExp(`Strip \\d: ${title}`) }).waitFor();
  }
  await until(async () => (await page.locator("main canvas").count()) === 2, 20, "two charts");
  await press("Move Spans up");
  await page.getByRole("group", { name: "Strip 1: Spans" }).waitFor();
  await button(page, "Undo").focus();
  await page.keyboard.press("Control+z");
  await page.getByRole("group", { name: "Strip 1: Lines" }).waitFor();
  await page.keyboard.press("Control+Shift+z");
  await page.getByRole("group", { name: "Strip 1: Spans" }).waitFor();
  await accessible(page, "a draft of a sheet");
  await press("Keep");
  await page.getByText(/version 1 by R. Amsel/).waitFor();
  assert.match(page.url(), /dashboards\/morning-watch-/);
});

test("a file with a mistake is refused with its line, the mended one becomes a draft", async () => {
  const { page } = it;
  await page.getByRole("button", { name: /^More/ }).click();
  await page.getByRole("menuitem", { name: "Import a sheet" }).click();
  await page.getByRole("textbox", { name: "Text" }).fill("title: Cold rooms\nstrips:\n  - title: Doors\n    hieght: 90\n");
  await button(page, "Read it").click();
  await page.getByText(/Line 4, column 5: there is no 'hieght' here/).waitFor();
  await page.getByRole("textbox", { name: "Text" }).fill("title: Cold rooms\nstrips:\n  - title: Doors\n    text: logs -> rat\n");
  await button(page, "Read it").click();
  await page.getByText(/strips\[0\] 'Doors': line 1, column 9 of the enquiry: 'rat' is not a step/).waitFor();
  await accessible(page, "import");
  await page.getByRole("textbox", { name: "Text" }).fill("title: Cold rooms\nstrips:\n  - title: Doors\n    text: logs -> count by workloads every 1m\n    draw: ranked\n    by: workloads\n");
  await button(page, "Read it").click();
  // What is called otherwise here is bound before it becomes a draft.
  await page.getByText(/One name of this sheet is not known in larkfield-north/).waitFor();
  await accessible(page, "names that are not known");
  await page.getByRole("group", { name: "workloads" }).getByRole("button").click();
  await page.getByRole("option", { name: "workload", exact: true }).click();
  await button(page, "Replace them").click();
  await page.getByRole("heading", { name: "Cold rooms" }).waitFor();
  await button(page, "Keep").click();
  await page.getByText(/version 1 by R. Amsel/).waitFor();
  await page.getByRole("group", { name: "Doors" }).waitFor();
  await accessible(page, "a block");
});

test("an answer is put on a sheet, an older version is taken back, a sheet is taken out", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?${new URLSearchParams({ cluster: "larkfield-north", last: "10m", q: "container.memory.working_set -> sum by namespace" })}`);
  await button(page, "Put on a sheet").click();
  await page.getByRole("textbox", { name: "Title of the strip" }).fill("Memory");
  await button(page, "Put on Cold rooms").click();
  await page.getByText(/version 2 by R. Amsel/).waitFor();
  await page.getByRole("button", { name: /^More/ }).click();
  await page.getByRole("menuitem", { name: "Versions" }).click();
  await button(page, "Difference from version 1").click();
  await page.getByRole("list", { name: "Changes since version 1" }).getByText("added").waitFor();
  await accessible(page, "the difference of versions");
  await button(page, "Take version 1 as the draft").click();
  await button(page, "Keep").click();
  await page.getByText(/version 3 by R. Amsel/).waitFor();
  await page.getByRole("button", { name: /^More/ }).click();
  await page.getByRole("menuitem", { name: "Take out" }).click();
  await page.getByRole("dialog").getByRole("button", { name: "Take out Cold rooms" }).click();
  await page.getByRole("heading", { name: "Cluster resources" }).waitFor();
});

test("an enquiry is kept, a strip follows it, and what is chosen above the sheet narrows it", async () => {
  const { page } = it;
  const text = (page, name) => page.getByRole("textbox", { name, exact: true });
  await page.goto(`${base}/ask?${new URLSearchParams({ cluster: "larkfield-north", last: "600", q: "k8s.node.memory.working_set -> sum by node" })}`);
  await button(page, "Keep").click();
  await text(page, "Title").fill("Memory by node");
  await accessible(page, "keeping an enquiry");
  await button(page, "Keep it").click();
  await page.getByText(/kept as Memory by node, version 1/).waitFor();
  await button(page, "Put on a sheet").click();
  await text(page, "Or on a new sheet named").fill("Followers");
  await button(page, "Make it").click();
  await page.getByRole("heading", { name: "Followers" }).waitFor();
  await button(page, "Edit").click();
  await text(page, "Choices above it").fill("node");
  await button(page, "Change Memory by node").click();
  await page.getByText("It follows the kept enquiry.", { exact: false }).waitFor();
  await button(page, "Add a bound").click();
  await text(page, "Bound").fill("1MiB");
  await button(page, "Take over").click();
  await button(page, "Keep").click();
  await page.getByText(/version 2 by R. Amsel/).waitFor();
  // Every node is beyond a bound of one MiB, and says so by its mark.
  await until(async () => (await page.getByRole("img", { name: /beyond 1MiB/ }).count()) === 5, 20, "five figures beyond the bound");
  await button(page, "node: all").click();
  await page.getByRole("menuitemcheckbox", { name: "north-2" }).click();
  await page.getByRole("menuitemcheckbox", { name: "north-3" }).click();
  await page.keyboard.press("Escape");
  await until(async () => (await page.getByRole("img", { name: /beyond 1MiB/ }).count()) === 2, 20, "two nodes");
  assert.deepEqual(new URL(page.url()).searchParams.getAll("choose.node"), ["north-2", "north-3"]);
  await accessible(page, "choices above a sheet");
  // On paper stands the sheet alone, whole, with what was chosen and the time it is of.
  await page.emulateMedia({ media: "print" });
  await page.getByText(/ to .*, node north-2, north-3/).waitFor();
  assert.equal(await page.getByRole("navigation", { name: "Stations" }).isVisible(), false);
  assert.ok(await page.evaluate(() => document.querySelector("main").scrollHeight <= document.querySelector("main").clientHeight + 1), "nothing is left behind a scroll bar");
  await page.emulateMedia({ media: "screen" });
  const sheet = page.url();
  // The kept enquiry is changed where it is asked; the sheet draws what it has become.
  await page.keyboard.press("4");
  await button(page, "Kept enquiries").click();
  await accessible(page, "kept enquiries");
  await button(page, "Ask Memory by node").click();
  await button(page, "Edit").click();
  await page.getByRole("textbox", { name: "Enquiry" }).press("Control+End");
  await page.keyboard.type("\n  -> highest 1");
  await page.keyboard.press("Control+Enter");
  await page.getByText(/changed since it was kept as Memory by node/).waitFor();
  await button(page, "Keep").click();
  await button(page, "Change Memory by node").click();
  await page.getByText(/kept as Memory by node, version 2/).waitFor();
  await page.goto(sheet.replace(/&?choose\.node=[^&]*/g, ""));
  await until(async () => (await page.getByRole("img", { name: /beyond 1MiB/ }).count()) === 1, 20, "the highest alone");
});

test("services, configuration and storage are listed and opened", async () => {
  const { page } = it;
  await page.goto(`${base}/clusters?cluster=larkfield-north`);
  await button(page, "Services").click();
  await page.getByRole("table", { name: "Services" }).getByRole("row", { name: /ledger.*3 of 3/ }).click();
  await page.getByRole("heading", { name: "Whom it leads to" }).waitFor();
  await accessible(page, "services");
  await button(page, "Configuration").click();
  await page.getByRole("row", { name: /bank-terms.*settle/ }).click();
  await page.getByText("patience: 3s").waitFor();
  await button(page, "Storage").click();
  await page.getByRole("row", { name: /data-lot-cache-0.*Bound/ }).waitFor();
  await accessible(page, "storage");
});

test("what costs most is left out of the draft, and the difference says so", async () => {
  const { page } = it;
  await page.goto(`${base}/collect?cluster=larkfield-north`);
  await button(page, "Trim").click();
  await page.getByRole("table", { name: "Costs of metrics" }).getByRole("row").nth(1).waitFor();
  await accessible(page, "trimming");
  await button(page, "Leave out price_lookups").click();
  await page.getByText("price_lookups left out").first().waitFor();
  await page.getByRole("dialog").getByRole("button", { name: "Close" }).click();
  await page.getByText("From now on: price_lookups left out").waitFor();
  await page.getByText(/What is left out from now on cannot be asked for later/).waitFor();
  await button(page, "Undo changes").click();
});

test("a promise shows what is left of its error budget, and its rules are put in force", async () => {
  const { page } = it;
  await page.goto(`${base}/alarms?cluster=larkfield-north`);
  await button(page, "Error budget").click();
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Gatehouse answers");
  await page.getByRole("textbox", { name: "Which requests count" }).fill('service = "gatehouse" and kind = "server"');
  await page.getByRole("textbox", { name: "Share that must be good" }).fill("100");
  await page.getByText(/a promise of 100 % leaves no budget/).waitFor();
  await page.getByRole("textbox", { name: "Share that must be good" }).fill("90");
  await page.getByRole("table", { name: "Rules of the budget" }).getByRole("row", { name: /2 % of the budget of 28 days in 1h.*13.4 times/ }).waitFor();
  await until(async () => /[1-9]/.test(await page.getByText(/bad, of [\d\u2009]+ counted/).innerText()), 20, "counted requests");
  await accessible(page, "error budget");
  await button(page, "Put its rules in force").click();
  for (const window of ["1h", "6h", "3d"]) await page.getByRole("table", { name: "Alert rules" }).getByRole("row", { name: new RegExp(`Gatehouse answers: .* in ${window}`) }).waitFor();
});

test("a ready-made rule is taken as a draft, has a runbook, and is drilled once it is in force", async () => {
  const { page } = it;
  await page.goto(`${base}/alarms?cluster=larkfield-north`);
  await button(page, "Ready-made").click();
  await page.getByRole("button", { name: "Runbook of A node is not ready" }).click();
  await page.getByRole("dialog").getByRole("heading", { name: "Look at" }).waitFor();
  await accessible(page, "a runbook");
  await button(page, "Close").click();
  await page.getByRole("dialog").getByText("A node is not ready", { exact: true }).click();
  await accessible(page, "ready-made rules");
  await button(page, "Keep as a draft").click();
  await page.getByRole("heading", { level: 1, name: "A node is not ready" }).waitFor();
  await button(page, "Drill").click();
  await page.getByText("The rule is not in force.", { exact: false }).waitFor();
  await button(page, "Close").click();
  await button(page, "Put in force").click();
  await page.getByRole("row", { name: /A node is not ready.*never/ }).click();
  await button(page, "Drill").click();
  await page.getByRole("dialog").getByRole("button", { name: /Fault/ }).click();
  await page.getByRole("option", { name: "The bank outside answers in 4 to 5 s" }).click();
  await button(page, "Begin the drill").click();
  const way = page.getByRole("list", { name: "The way of the drill" });
  await way.getByText("waiting").waitFor();
  await accessible(page, "a drill that goes on");
  await button(page, "Break off").click();
  await way.getByText("It was broken off.").first().waitFor();
  await button(page, "Close").click();
});

test("a machine outside is planned, told how to be set up, and forgotten", async () => {
  const { page } = it;
  await page.goto(`${base}/collect?cluster=larkfield-north`);
  await button(page, "Machines outside").click();
  await button(page, "Add a machine").click();
  await page.getByRole("dialog").getByLabel("Name", { exact: true }).fill("weighbridge.larkfield.example");
  await page.getByLabel("Log files, one in each line").fill("var/log/weighed.txt");
  await button(page, "Add it").click();
  await page.getByText("it begins with '/'", { exact: false }).waitFor();
  await page.getByLabel("Log files, one in each line").fill("/var/log/weighed.txt");
  await button(page, "Add it").click();
  await page.getByText("systemctl enable --now skevin-agent", { exact: false }).waitFor();
  await page.getByText("not set up yet").first().waitFor();
  await accessible(page, "a machine outside");
  await page.getByRole("button", { name: "Forget weighbridge.larkfield.example" }).click();
  await page.getByRole("button", { name: "Forget weighbridge.larkfield.example" }).click();
  await page.getByText("systemctl disable --now skevin-agent", { exact: false }).waitFor();
});

test("the page has thrown nothing", () => assert.deepEqual(it.errors, []));
