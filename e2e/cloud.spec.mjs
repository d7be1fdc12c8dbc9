// A cloud account: the authority that covers it, the one-time code from its
// owner's page, a bad line, a token that expires, and an earlier calendar.
import { expect, test } from "@playwright/test";
import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { accessible, base, shot, signIn } from "./pages.mjs";

test.describe.configure({ mode: "serial" });

const account = "harbour@example.org";
let page, owner;
const faults = [];
const at = (path) => base() + "/case/CLD-1" + path;

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  owner = await (await browser.newContext()).newPage();
  page.on("console", (m) => m.type() === "error" && faults.push(m.text()));
  page.on("pageerror", (e) => faults.push(e.message));
  await signIn(page);
});
test.afterEach(() => {
  expect(faults.splice(0)).toEqual([]);
});

const authority = async (fields) => {
  for (const [label, value] of Object.entries({
    "Issued by": "Harbour court",
    "Valid from": "2026-09-01",
    "Valid to, that day included": "2027-03-01",
    ...fields,
  }))
    await page.getByLabel(label, { exact: true }).fill(value);
  await page.getByLabel("Kind", { exact: true }).fill("order");
  for (const kind of ["Messages", "Calls", "Contacts", "Calendar events"]) await page.getByLabel(kind).check();
};
const enter = async (password, code) => {
  await page.getByLabel("Password").fill(password);
  await page.getByLabel("One-time code").fill(code);
  await page.getByRole("button", { name: "Sign in" }).click();
};
const code = async () => {
  await owner.goto(process.env.CROSSWIND_CLOUD);
  return (await owner.locator("#code").innerText()).trim();
};
const fault = async (label, n) => {
  const form = owner.locator("form", { hasText: label });
  await form.getByRole("textbox").fill(String(n));
  await form.getByRole("button").click();
};

test("nobody signs in without an authority that covers the account", async () => {
  await page.goto(base() + "/cases/new");
  await page.getByLabel("Reference", { exact: true }).fill("CLD-1");
  await page.getByLabel("Title", { exact: true }).fill("A cloud account");
  await authority({ Number: "HC 20" });
  await page.getByRole("button", { name: "Open the case" }).click();
  for (const [id, value] of Object.entries({
    reference: "K",
    model_mark: "none",
    serial: account,
    seal: "none",
    place: "Desk",
    to: "R. Aske",
  }))
    await page.locator("#" + id).fill(value);
  await page.locator("#kind").selectOption("account");
  await page.getByRole("button", { name: "Register the exhibit" }).click();
  await expect(page.getByRole("status")).toContainText("Exhibit K is registered");
  await page.goto(at("/acquire"));
  await page.getByRole("link", { name: "sign in to the account" }).click();
  await expect(page.locator("main")).toContainText(`No valid authority of this case names ${account}`);
  await accessible(page);
  await page.getByRole("link", { name: "Add the authority" }).click();
  await authority({ Number: "HC 21", "Their numbers and addresses, with commas; none: everybody": account });
  await page.getByRole("button", { name: "Add the authority" }).click();
  await page.goto(at("/acquire/cloud?exhibit=K"));
  await expect(page.locator("main")).toContainText("HC 21");
});

test("wrong and right codes, and a snapshot over a bad line", async () => {
  await enter("kelp-and-candle", "000000");
  await expect(page.getByRole("alert")).toContainText("the account, its password or its code is not right");
  faults.splice(0); // the refusal's own status
  await enter("kelp-and-candle", await code());
  const snapshot = page.getByRole("row", { name: /30 Aug 2026/ });
  await expect(snapshot).toContainText("TEST-0417-A");
  await expect(page.getByRole("checkbox", { name: /^Snapshot of|calendar of|Contacts of/, checked: true })).toHaveCount(0);
  await accessible(page);
  await owner.goto(process.env.CROSSWIND_CLOUD);
  await fault("429 too many requests", 3);
  await fault("Sends a corrupted chunk", 1);
  await fault("Drops the line so often", 1);
  await snapshot.getByRole("checkbox").check();
  await page.getByRole("button", { name: "Read what is chosen" }).click();
  await expect(page.getByText("K acquisition 1").first()).toBeVisible();
  await page
    .getByText(/things that the source/)
    .first()
    .click();
  await expect(page.locator("main")).toContainText("came corrupted, and was read again until it matched its digest");
  await page.goto(at("/recover?exhibit=K"));
  await page.getByRole("button", { name: "Light pass" }).click();
  await expect(page.getByRole("row", { name: /talk\.db/ })).toContainText("talk 5");
});

test("a token that expires midway asks again in place, and the run goes on", async () => {
  await page.goto(at("/acquire/cloud?exhibit=K"));
  await enter("kelp-and-candle", await code());
  await page
    .getByRole("row", { name: /21 Sep 2026/ })
    .getByRole("checkbox")
    .check();
  await owner.goto(process.env.CROSSWIND_CLOUD);
  await fault("The token expires", 5); // two lists for the page, then the run's own
  await page.getByRole("button", { name: "Read what is chosen" }).click();
  await expect(page.locator('[data-state="failed"]').first()).toContainText("asks to sign in again");
  await page.getByRole("link", { name: "sign in to the account" }).click();
  await expect(page.locator("main")).toContainText("1 run has stopped, and what was read is kept");
  await enter("kelp-and-candle", await code());
  await expect(page.getByText("K acquisition 2").first()).toBeVisible();
});

test("back to calendar and contacts as they were before, and what changed since", async () => {
  await page.goto(at("/acquire/cloud?exhibit=K"));
  await enter("kelp-and-candle", await code());
  const before = page.getByRole("row", { name: /Own calendar.*10 Sep 2026/ });
  await expect(before).toContainText("5");
  await expect(page.getByRole("row", { name: /Own calendar.*12 Sep 2026/ })).toContainText("3");
  for (const row of await page.getByRole("row", { name: /Own calendar|Contacts/ }).all()) await row.getByRole("checkbox").check();
  await page.getByRole("button", { name: "Read what is chosen" }).click();
  await expect(page.getByText("K acquisition 3").first()).toBeVisible();
  await page.goto(at("/recover?exhibit=K"));
  const versions = page.locator("section.panel", { has: page.getByRole("heading", { name: "K acquisition 3" }) });
  await versions.getByRole("button", { name: "Full pass" }).click();
  await expect(versions.getByRole("row", { name: /calendar.*10T210400Z/ })).toContainText("earlier version, in a file 2");
  await expect(versions.getByRole("row", { name: /contacts.*10T210400Z/ })).toContainText("earlier version, in a file 1");
  await page.goto(at("/examine?exhibit=K&q=" + encodeURIComponent("side gate kind:event")));
  await page.getByRole("row", { name: /K, side gate/ }).click();
  await expect(page.locator("main")).toContainText("not in the version of 12 Sep 2026 06:02:00 UTC");
  await page.keyboard.press("o");
  const drawer = page.getByRole("dialog", { name: "Origin of the record" });
  await expect(drawer).toContainText("iCalendar, version 2");
  await expect(drawer.locator("pre")).toContainText("SUMMARY");
  await accessible(page);
  await page.keyboard.press("Escape");
  await page.locator("#mark-reason").fill("Taken out of the calendar between the two versions");
  await page.getByRole("button", { name: "Mark", exact: true }).click();
  await expect(page.getByRole("button", { name: "Unmark" })).toBeVisible();
  await page.goto(at("/report"));
  await expect(page.locator(".record")).toContainText("component VEVENT");
  await page.getByRole("button", { name: "Make the package" }).click();
  const made = page.getByRole("link", { name: /^CLD-1-.*\.zip$/ });
  await expect(made).toBeVisible();
  const download = page.waitForEvent("download");
  await made.click();
  expect(execFileSync("bin/crosswind", ["verify", await (await download).path()]).toString()).toContain("holds: case CLD-1");
  await page.goto(at("/verify?exhibit=K"));
  const row = page.getByRole("row", { name: /Own calendar 2026-09-10T210400Z\.ics/ });
  const sum = await row.locator("[data-digest]").last().getAttribute("data-digest");
  const blob = readFileSync(`${process.env.CROSSWIND_DIR}/data/vault/sha256/${sum.slice(0, 2)}/${sum}`, "utf8");
  expect(blob).toContain("SUMMARY:K\\, side gate");
  await page.goto(at("/ledger"));
  await expect(page.getByRole("row", { name: /account\.signed_in/ }).first()).toContainText("HC 21");
  await expect(page.locator("main")).not.toContainText("kelp-and-candle");
});
