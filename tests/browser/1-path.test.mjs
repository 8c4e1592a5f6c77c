// The whole path as a person walks it: from an empty page to an alarm, and what breaks on the way.
import assert from "node:assert/strict";
import { readFile } from "node:fs/promises";
import { after, before, test } from "node:test";
import { accessible, base, button, control, open, station, until } from "./page.mjs";

let it;
before(async () => { it = await open(); });
after(async () => { await it?.browser.close(); });

test("a wrong password is explained, the right one opens the page", async () => {
  const { page } = it;
  await page.goto(base);
  await page.getByLabel("E-mail").fill("amsel@larkfield.example");
  await page.getByLabel("Password").fill("not-the-password");
  await button(page, "Sign in").click();
  await page.getByText("E-mail or password is wrong.").waitFor();
  await accessible(page, "sign-in");
  await page.getByLabel("Password").fill(process.env.SKEVIN_DEMO_PASSWORD);
  await button(page, "Sign in").click();
  await page.getByRole("heading", { name: "No cluster is connected yet" }).waitFor();
  await accessible(page, "no cluster");
});

test("a cluster is connected by its kubeconfig and shows nodes and pods", async () => {
  const { page } = it;
  const kubeconfig = await readFile(`${process.env.SKEVIN_HOME}/stand-in/larkfield-north.kubeconfig`, "utf8");
  await button(page, "Connect a cluster").click();
  await page.getByLabel("Kubeconfig").fill("hello");
  await button(page, "Connect").click();
  await page.getByText("The kubeconfig cannot be used.").waitFor();
  await page.getByLabel("Kubeconfig").fill(kubeconfig);
  await button(page, "Connect").click();
  await page.getByText("Rights tested").waitFor();
  await accessible(page, "connected");
  await button(page, "Show larkfield-north").click();
  await page.getByText("5 of 5 nodes").waitFor();
  const row = page.getByRole("table", { name: "Pods" }).getByRole("row", { name: /ledger-/ }).first();
  await row.focus();
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "Container ledger" }).waitFor();
  await accessible(page, "clusters");
});

test("a plan is looked at and rolled out, each agent followed to ready", async () => {
  const { page } = it;
  await page.keyboard.press("2");
  await page.getByRole("heading", { name: "Collection from larkfield-north" }).waitFor();
  await page.getByRole("button", { name: "every" }).click();
  await page.getByRole("option", { name: "5 s", exact: true }).click();
  await button(page, "Manifests").click();
  await page.getByText("kind: DaemonSet").waitFor();
  assert.equal(await page.getByText("kind: Secret").count(), 0);
  await page.getByRole("dialog").getByRole("button", { name: "Close" }).click();
  await button(page, "Roll out").click();
  await page.getByText("6 of 6 agents ready").waitFor({ timeout: 60_000 });
  await accessible(page, "collect");
});

test("everything that should arrive does", async () => {
  const { page } = it;
  await station(page, "Arrivals").click();
  await until(async () => { const [, all, good] = /^(\d+) sources expected, (\d+) on time$/.exec(await page.locator("main header span").first().innerText()) ?? []; return Number(all) > 85 && all === good; }, 120, "all sources of all signals on time");
  await until(async () => (await page.getByRole("img", { name: "Strands. metrics: flowing, logs: flowing, traces: flowing, flows: flowing" }).count()) === 1, 20, "four strands");
  for (const signal of ["metrics", "logs", "traces", "flows"]) await page.getByRole("table", { name: "Expected sources" }).getByRole("row", { name: new RegExp(`${signal} `) }).first().waitFor();
  await accessible(page, "arrivals");
});

test("an enquiry is typed with help, corrected where it is wrong, and answered", async () => {
  const { page } = it;
  await page.keyboard.press("/");
  await page.locator(".cm-content").waitFor();
  await page.keyboard.type("container.cpu.t");
  await page.getByRole("option", { name: /container\.cpu\.time/ }).waitFor();
  // A list takes no Enter in its first 75 ms, so that one meant for a new line does not take a word; a person needs longer.
  await page.waitForTimeout(150);
  await page.keyboard.press("Enter");
  assert.equal(await page.locator(".cm-content").innerText(), "container.cpu.time");
  await page.keyboard.type(" -> where namespace = ");
  await page.getByRole("option", { name: '"auction"' }).click();
  await page.keyboard.type(" -> rat -> sum by workload ");
  await page.keyboard.press("Control+Enter");
  await page.getByText("'rat' is not a step.").waitFor();
  assert.equal(await page.locator(".wrong").innerText(), "rat");
  await button(page, "Write rate").click();
  const ledger = page.getByRole("table", { name: "Steps" });
  await until(async () => (await ledger.getByRole("row").count()) === 5, 20, "the account");
  await ledger.getByRole("row", { name: /sum by workload.* 5/ }).waitFor();
  await until(async () => (await page.getByRole("table", { name: "Series" }).getByRole("row", { name: /bid-gateway.*core/ }).count()) === 1, 30, "figures in cores");
  assert.ok(await page.locator("main canvas").count(), "a chart");
  assert.match(page.url(), /q=container/);
  await accessible(page, "ask");
});

test("a filter that leaves nothing names the nearest value, and one press mends it", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?q=${encodeURIComponent('container.cpu.time -> where workload = "ledgr" -> rate')}`);
  await button(page, 'workload = "ledger"').click();
  await page.getByRole("row", { name: /where workload = "ledger".* 3/ }).waitFor();
  await page.getByRole("navigation", { name: "Scope" }).getByRole("button", { name: /payout/ }).click();
  await page.getByText("from the scope at the left").waitFor();
  await page.getByRole("navigation", { name: "Scope" }).getByRole("button", { name: /^(· )?clear ?all|all/ }).first().click();
});

test("the ready-made sheet draws its strips on one clock", async () => {
  const { page } = it;
  await page.keyboard.press("5");
  await page.getByRole("heading", { name: "Cluster resources" }).waitFor();
  await until(async () => (await page.locator("main canvas").count()) === 6, 30, "six strips");
  await page.getByText("following now").waitFor();
  await accessible(page, "dashboards");
});

test("log lines are read, one chosen, its field becomes a step, its trace is opened", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('logs -> where workload = "gatehouse"')}`);
  const lines = page.getByRole("group", { name: "Lines" });
  await lines.getByRole("button", { name: /POST \/bids/ }).first().waitFor();
  // The course of the lines is drawn after them.
  await page.locator("main canvas").first().waitFor();
  await accessible(page, "lines");
  await lines.getByRole("button", { name: /POST \/bids/ }).first().click();
  await page.getByText("Choosing a value adds a step to the enquiry.").waitFor();
  await page.getByRole("button", { name: "stdout", exact: true }).click();
  await page.getByRole("table", { name: "Steps" }).getByRole("row", { name: /where log.iostream = "stdout"/ }).waitFor();
  await lines.getByRole("button", { name: /POST \/bids/ }).first().click();
  await button(page, "Its trace").click();
  await page.getByRole("group", { name: "Spans of the trace" }).waitFor();
  await page.getByRole("heading", { name: /POST \/bids\/\{lot\}.* took/ }).waitFor();
  await page.getByRole("heading", { name: "Where the time went" }).waitFor();
  await page.getByRole("button", { name: /^bid-gateway: POST/ }).first().press("Enter");
  await page.getByRole("complementary").getByText("http.request.method").waitFor();
  await accessible(page, "trace");
  await button(page, "Log lines of this call").click();
  await until(async () => (await lines.getByRole("button").count()) > 1, 20, "the lines of the trace");
});

test("a misspelt word is explained from the words that occur, and mended", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('logs -> where text says "postt"')}`);
  await button(page, 'text says "post"').click();
  await page.getByRole("table", { name: "Steps" }).getByRole("row", { name: /says "post"/ }).waitFor();
});

test("lines fall into kinds, and one of them is opened", async () => {
  const { page } = it;
  // Flows are kept by the minute: what the traffic lanes are to show later begins now.
  assert.ok((await page.request.put(`${base}/api/practice/faults/policy-denies`, { data: { on: true } })).ok());
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('logs -> where workload = "gatehouse" -> kinds')}`);
  await page.getByRole("heading", { name: "Kinds of line" }).waitFor();
  await accessible(page, "kinds");
  const kinds = page.getByRole("table", { name: "Kinds" });
  await kinds.getByRole("row").nth(1).focus();
  await page.keyboard.press("Enter");
  await page.getByRole("table", { name: "Steps" }).getByRole("row", { name: /where text matches/ }).waitFor();
  await page.getByRole("group", { name: "Lines" }).getByRole("button").first().waitFor();
});

test("what differs is named with its shares, and its rows are asked for", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('spans -> differ where service = "ledger"')}`);
  const table = page.getByRole("table", { name: "Differences" });
  await table.getByRole("row", { name: /ledger.*100 %/ }).first().waitFor();
  await accessible(page, "differences");
  await table.getByRole("row").nth(1).focus();
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "Spans", exact: true }).waitFor();
});

test("a formula of two parts is a share in per cent", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('failed: spans -> where status = "error" -> count every 1m\nall: spans -> count every 1m\nfailed / all -> as percent')}`);
  const steps = page.getByRole("table", { name: "Steps" });
  await steps.getByRole("row", { name: /failed: spans/ }).waitFor();
  await steps.getByRole("row", { name: /as percent.* 1/ }).waitFor();
  assert.ok(await page.locator("main canvas").count(), "a chart");
});

test("a step is changed, added and left out where it stands", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('logs -> where workload = "gatehouse" -> count by level')}`);
  const steps = page.getByRole("table", { name: "Steps" });
  await steps.getByRole("button", { name: "Change step 3: count by level" }).click();
  await page.getByLabel("Step 3").fill("count by namespace every 1m");
  await page.keyboard.press("Enter");
  await steps.getByRole("button", { name: "Change step 3: count by namespace every 1m" }).waitFor();
  await steps.getByRole("row").nth(3).hover();
  await steps.getByRole("button", { name: "Add a step behind step 3" }).click();
  await page.getByLabel("New step").fill("highest 1");
  await page.keyboard.press("Enter");
  await steps.getByRole("button", { name: "Change step 4: highest 1" }).waitFor();
  await steps.getByRole("button", { name: "Change step 4: highest 1" }).focus();
  await accessible(page, "ledger");
  await steps.getByRole("button", { name: "Leave out step 4: highest 1" }).click();
  await until(async () => (await steps.getByRole("row").count()) === 4, 20, "one step fewer");
  // Escape leaves a step as it was; a mistake opens the editor with the word marked.
  await steps.getByRole("button", { name: /Change step 2/ }).click();
  await page.getByLabel("Step 2").fill("nonsense");
  await page.keyboard.press("Escape");
  await steps.getByRole("button", { name: 'Change step 2: where workload = "gatehouse"' }).click();
  await page.getByLabel("Step 2").fill("wher level exists");
  await page.keyboard.press("Enter");
  await button(page, "Write where").click();
  await steps.getByRole("button", { name: "Change step 2: where level exists" }).waitFor();
});

test("a policy that denies is seen in the traffic lanes, and the ribbon tells its story", async () => {
  const { page } = it;
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('flows -> where destination = "queue" or destination = "gatehouse" -> graph')}`);
  const ribbon = page.getByRole("button", { name: /door-watch to platform\/queue.*dropped, denied by policy/ });
  await until(async () => { if (await ribbon.count()) return true; await page.reload(); await page.waitForTimeout(1500); return false; }, 90, "the denied ribbon");
  await ribbon.focus();
  await page.keyboard.press("Enter");
  await page.getByRole("heading", { name: "door-watch to queue" }).waitFor();
  await page.getByText("coldstore/door-watch").waitFor();
  await until(async () => /5671/.test(await page.getByRole("complementary").innerText()), 20, "the port on the wire");
  await accessible(page, "traffic");
  await button(page, "Raw addresses").click();
  await page.getByRole("button", { name: /2001:db8/ }).first().waitFor();
  await page.goto(`${base}/ask?cluster=larkfield-north&last=900&q=${encodeURIComponent('flows -> where outcome = "dropped"')}`);
  await page.getByRole("table", { name: "Rows of flows" }).getByRole("row").nth(1).waitFor();
  await button(page, "Raw addresses").click();
  await until(async () => /(203\.0\.113|2001:db8)/.test(await page.getByRole("table", { name: "Rows of flows" }).innerText()), 20, "addresses in place of names");
  await page.keyboard.press("1");
  await button(page, "Practice faults").click();
  await page.getByText("A traffic policy denies door-watch the way to the queue").click();
  await page.keyboard.press("Escape");
});

test("the sheet Auction morning draws logs, spans and flows on one clock", async () => {
  const { page } = it;
  await page.goto(`${base}/dashboards/auction-morning?cluster=larkfield-north&last=1800`);
  await page.getByRole("heading", { name: "Auction morning" }).waitFor();
  await until(async () => (await page.locator("main canvas").count()) === 6, 40, "six strips");
  await accessible(page, "auction morning");
});

test("the time strip takes a typed length, moves by keys and comes back to now", async () => {
  const { page } = it;
  await page.keyboard.press("t");
  await page.getByLabel("Length").fill("30m");
  await page.keyboard.press("Enter");
  await until(async () => page.url().includes("last=1800"), 15, "half an hour in the address");
  // The address changes before the page is drawn anew: a person acts on what they see.
  await button(page, "30 min").waitFor();
  await page.keyboard.press(",");
  await until(async () => /from=\d+/.test(page.url()), 15, "a fixed window");
  await button(page, "Back to now").waitFor();
  await page.keyboard.press("n");
  await until(async () => page.url().includes("last=1800") && !page.url().includes("from="), 15, "now again");
  await page.keyboard.press("?");
  await page.getByRole("dialog", { name: "Keys" }).waitFor();
  await page.keyboard.press("Escape");
});

test("an alert rule is made of an enquiry, a fault raises it, the message arrives, it is acknowledged", async () => {
  const { page } = it;
  await page.keyboard.press("6");
  await page.getByRole("heading", { name: "Nothing needs a person" }).waitFor();
  await button(page, "Who is told").click();
  await button(page, "New contact").first().click();
  await page.getByLabel("Name").fill("on-duty");
  await page.getByLabel("Address").fill(`${control}/hook`);
  await button(page, "Keep contact").click();
  await page.getByText("on-duty", { exact: true }).waitFor();
  await button(page, "Send a test").click();
  await page.getByText(/Test message: taken after/).waitFor();
  await button(page, "New contact").first().click();
  await page.getByLabel("Name").fill("night-desk");
  await page.getByLabel("Address").fill(`${control}/hook`);
  await button(page, "Keep contact").click();
  await page.getByText("night-desk", { exact: true }).waitFor();
  await button(page, "New team").click();
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("watch");
  await page.getByRole("textbox", { name: "Who takes turns, a contact in each line" }).fill("on-duty");
  await page.getByRole("textbox", { name: "Who is told" }).fill("rota\n15m nobody");
  await button(page, "Keep team").click();
  await page.getByText("There is no contact 'nobody'.").waitFor();
  await page.getByRole("textbox", { name: "Who is told" }).fill("rota\n15s night-desk");
  await button(page, "Keep team").click();
  await page.getByText(/until \w{3} \d/).waitFor();
  await accessible(page, "who is told");
  await button(page, "Back to the alarms").click();
  await page.goto(`${base}/ask?q=${encodeURIComponent('http_server_request_duration_seconds -> where workload = "settle" and quantile = "0.95" -> max by namespace, workload every 5s')}`);
  await button(page, "Make an alert rule").click();
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Settle waits for the bank");
  await page.getByLabel("Bound", { exact: true }).fill("2s");
  await page.getByLabel("Hold", { exact: true }).fill("5s");
  await page.getByLabel("Wait").fill("5s");
  await page.getByRole("button", { name: /Contact/ }).click();
  await page.getByRole("option", { name: "watch, a team" }).click();
  await page.getByText("It would not have been raised.").waitFor();
  await accessible(page, "rule");
  await button(page, "Put in force").click();
  await page.getByRole("table", { name: "Alert rules" }).getByRole("row", { name: /Settle waits for the bank/ }).waitFor();

  await page.keyboard.press("1");
  await button(page, "Practice faults").click();
  await page.getByText("The bank outside answers in 4 to 5 s").click();
  await page.keyboard.press("Escape");
  await page.keyboard.press("6");
  await page.getByRole("heading", { name: "One alarm is raised" }).waitFor({ timeout: 60_000 });
  const messages = () => fetch(`${control}/messages`).then((answer) => answer.json());
  const raised = await until(async () => (await messages()).find((message) => message.body.transition === "raised"), 30, "the message");
  assert.equal(raised.body.rule, "Settle waits for the bank");
  assert.equal(raised.body.labels.workload, "settle");
  // Nobody says they have it: the next step of the team is told as well.
  const second = await until(async () => (await messages()).find((message) => message.body.step === 1), 60, "the second step");
  assert.deepEqual([second.body.team, second.body.rule, second.body.unacknowledgedSeconds >= 15], ["watch", "Settle waits for the bank", true]);
  await page.getByRole("table", { name: "Alarms" }).getByRole("row", { name: /Settle waits/ }).click();
  await page.getByRole("complementary").getByText(/night-desk was told/).waitFor();
  await button(page, "Acknowledge").click();
  await page.getByText("raised, seen").waitFor();
  await page.getByRole("textbox", { name: "Note" }).fill("the bank is asked");
  await button(page, "Keep the note").click();
  await page.getByRole("complementary").getByText("the bank is asked").waitFor();
  await page.getByRole("complementary").getByText(/was told for watch/).waitFor();
  await accessible(page, "alarms");

  await page.keyboard.press("1");
  await button(page, "Practice faults").click();
  await page.getByText("The bank outside answers in 4 to 5 s").click();
  await page.keyboard.press("Escape");
});

test("a missing right breaks the strand, is named, and is mended by one act", async () => {
  const { page } = it;
  await page.keyboard.press("1");
  await button(page, "Practice faults").click();
  await page.getByText("The agents' role loses the right to read node stats").click();
  await page.keyboard.press("Escape");
  await page.keyboard.press("3");
  await page.getByText("403 the role lacks a right").first().waitFor({ timeout: 60_000 });
  await page.getByText("node/north-1: refused").waitFor();
  await until(async () => (await page.getByRole("img", { name: /Strands.*metrics: refused/ }).count()) === 1, 30, "the broken strand");
  await accessible(page, "refused");
  await button(page, "Apply the plan again").click();
  await until(async () => (await page.getByText("403 the role lacks a right").count()) === 0, 60, "the mended right");
});

test("a revoked token is named with its time, and a new one is handed out", async () => {
  const { page } = it;
  await page.keyboard.press("2");
  await button(page, "Ingest tokens").click();
  await button(page, "Revoke agents of larkfield-north").click();
  await page.getByRole("button", { name: /for good/ }).click();
  await page.keyboard.press("Escape");
  await page.keyboard.press("3");
  await page.getByText("401 ingest token replaced").first().waitFor({ timeout: 60_000 });
  await button(page, "Hand out a new token").click();
  await until(async () => (await page.getByText("401 ingest token replaced").count()) === 0, 60, "pushes with the new token");
});

test("the alarm whose fault was ended meanwhile is cleared, and its end is told", async () => {
  const { page } = it;
  await page.keyboard.press("6");
  await page.getByRole("heading", { name: "Nothing needs a person" }).waitFor({ timeout: 60_000 });
  await page.getByRole("table", { name: "What happened lately" }).getByRole("row", { name: /cleared/ }).waitFor();
  await until(async () => (await (await fetch(`${control}/messages`)).json()).some((message) => message.body.transition === "cleared"), 30, "the clearing message");
});

test("dark is as readable as light, and the address brings the view back", async () => {
  const { page } = it;
  await page.emulateMedia({ colorScheme: "dark" });
  for (const path of ["clusters", "collect", "arrivals", "dashboards", "alarms"]) {
    await page.goto(`${base}/${path}?cluster=larkfield-north&namespace=auction`);
    await page.getByRole("navigation", { name: "Scope" }).getByRole("button", { name: /auction/, pressed: true }).waitFor();
    await accessible(page, `${path} in dark`);
  }
  for (const enquiry of ["logs", "flows -> graph", 'spans -> where kind = "server" -> traces']) {
    await page.goto(`${base}/ask?cluster=larkfield-north&last=600&q=${encodeURIComponent(enquiry)}`);
    await page.getByRole("table", { name: "Steps" }).waitFor();
    await page.waitForTimeout(1000);
    await accessible(page, `${enquiry} in dark`);
  }
  assert.deepEqual(it.errors, []);
});

test("signing out closes the page", async () => {
  const { page } = it;
  await button(page, "R. Amsel").click();
  await button(page, "Sign out").click();
  await page.getByRole("form", { name: "Sign in" }).waitFor();
  assert.equal((await page.request.get(`${base}/api/clusters`)).status(), 401);
});
