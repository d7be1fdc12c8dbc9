// The whole job on one backup, by hand in a browser, from intake to a package
// that verifies itself. The steps build on each other.
import { expect, test } from "@playwright/test";
import { execFileSync, spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { chmodSync, cpSync, mkdtempSync, readFileSync, readdirSync, rmSync, statSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, base, kase, packaged, shot, signIn } from "./pages.mjs";
import { faults as faultsOf } from "./verifier.mjs";

test.describe.configure({ mode: "serial" });

let page;
const faults = [];
test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  page.on("console", (m) => m.type() === "error" && faults.push(m.text()));
  await page.goto(base() + "/sign-in");
  await accessible(page);
  page.on("pageerror", (e) => faults.push(e.message));
  await signIn(page);
});
test.afterEach(() => {
  expect(faults.splice(0)).toEqual([]);
});

// What the truth file says, which SQL wrote before each deletion.
const held = () =>
  JSON.parse(readFileSync(join(process.env.CROSSWIND_DIR, "truth.json"))).deleted.filter(
    (d) => d.how === "moved to the holding area" && d.database === "/data/talk/talk.db",
  ).length;

const luhn = (digits) => {
  // ISO/IEC 7812-1 annex B, written again here to check the application's.
  const sum = [...digits].reverse().reduce((s, c, i) => s + (i % 2 ? +c : [0, 2, 4, 6, 8, 1, 3, 5, 7, 9][+c]), 0);
  return String((10 - (sum % 10)) % 10);
};

test("1. register, board, and intake of a second exhibit with a hand-over", async () => {
  await expect(page.getByRole("row", { name: /SAL-26-014/ })).toContainText("Theft from an instrument store");
  await accessible(page);
  await shot(page, "register");
  await page.getByRole("link", { name: "SAL-26-014" }).click();
  await expect(page.getByRole("row", { name: /^014-A handset/ })).toContainText("not acquired");
  await accessible(page);
  await page.keyboard.press("1");
  await expect(page.getByRole("heading", { name: "Scope" })).toBeVisible();
  await expect(page.getByText("message, call, voicemail, mail")).toBeVisible();

  await page.getByText("Register an exhibit").click();
  const imei = "00499901064001";
  const field = page.getByLabel("IMEI", { exact: true });
  const said = page.locator("#imei-said");
  await field.pressSequentially(imei);
  await expect(said).toContainText("15 digits");
  const wrong = String((+luhn(imei) + 1) % 10);
  await field.pressSequentially(wrong);
  await expect(said).toContainText("wrong check digit");
  await field.press("Backspace");
  await field.pressSequentially(luhn(imei));
  await expect(said).toHaveText("the check digit is right");
  await page.getByLabel("Model mark, as printed").fill("OL-118");
  await page.getByLabel("Serial", { exact: true }).fill("TEST-0418-B");
  await page.getByLabel("Power", { exact: true }).fill("off");
  await page.getByLabel("Screen", { exact: true }).fill("cracked");
  await page.locator("#seal").fill("B-220418");
  await page.locator("#place").fill("Quay office, Varn Skerries");
  await page.getByLabel("Received from").fill("S. Roan, patrol");
  await page.locator("#to").fill("H. Vold");
  await accessible(page);
  await page.getByRole("button", { name: "Register the exhibit" }).click();
  await expect(page.getByRole("status")).toContainText("Exhibit 014-B is registered");

  // A hand-over by somebody who does not hold it is refused, and nothing is lost.
  const card = page.getByRole("region", { name: "Exhibit 014-B" });
  await card.getByText("Record a custody event").click();
  await card.getByLabel("Given by").fill("N. Nobody");
  await card.getByLabel("Received by").fill("R. Aske");
  await card.getByLabel("Place").fill("Bench 2");
  await card.getByRole("button", { name: "Record" }).click();
  await expect(page.getByRole("alert")).toContainText("N. Nobody does not hold the exhibit: it is held by H. Vold");
  await expect(card.getByLabel("Received by")).toHaveValue("R. Aske");
  faults.splice(0); // the refusal's own status
  await card.getByLabel("Given by").fill("H. Vold");
  await card.getByRole("button", { name: "Record" }).click();
  await expect(page.getByRole("alert")).toContainText("is confirmed by both sides");
  faults.splice(0);
  await card.getByLabel("or paper receipt, its number").fill("26-1181");
  await card.getByRole("button", { name: "Record" }).click();
  await expect(card.getByRole("list", { name: /Chain of custody/ })).toContainText("H. Vold → R. Aske");
  await expect(card).toContainText("held by R. Aske");
  await accessible(page);

  // A seal that is opened must be closed before the exhibit goes on; then the
  // custodian signs in beside the examiner.
  const event = async (what, fields) => {
    await card.getByText("Record a custody event").click();
    await card.getByLabel("Event").selectOption(what);
    await card.getByLabel("Place").fill("Bench 2");
    for (const [label, value] of Object.entries(fields)) await card.getByLabel(label, { exact: true }).fill(value);
    await card.getByRole("button", { name: "Record" }).click();
  };
  await event("opened", {});
  await expect(card).toContainText("Seal B-220418 was opened, and the exhibit is not sealed again");
  await event("handed over", { "Received by": "H. Vold", "Receiver's sign-in": "custodian", "Receiver's password": "rope-and-seal" });
  await expect(page.getByRole("alert")).toContainText("seal B-220418 was opened");
  faults.splice(0);
  await page.goto(kase() + "/intake");
  await event("sealed", { "Seal number": "B-220419" });
  await event("handed over", { "Received by": "H. Vold", "Receiver's sign-in": "custodian", "Receiver's password": "rope-and-seal" });
  await expect(card).toContainText("signed in: R. Aske (examiner) and H. Vold (custodian)");
  await card.getByRole("link", { name: "receipt" }).last().click();
  await expect(page.getByText("Received by H. Vold")).toBeVisible();
  await accessible(page);
  await page.goBack();
  await card.getByText("Add a photograph").click();
  await card.getByLabel("What it shows").fill("Front, as received");
  await card.getByLabel("JPEG, PNG, WebP or GIF").setInputFiles("docs/screenshots/register.png");
  await card.getByRole("button", { name: "Add it" }).click();
  await expect(page.getByRole("status")).toContainText("The photograph of 014-B is in the vault");
  const picture = card.getByRole("img", { name: "Front, as received" });
  expect(await picture.evaluate((img) => img.decode().then(() => img.naturalWidth))).toBe(1280);
  await shot(page, "intake");
  await card.getByRole("link", { name: "label" }).click();
  await expect(page.getByRole("img", { name: /exhibit 014-B/ })).toBeVisible();
  await accessible(page);
});

test("2. a backup is found and acquired while the page is left", async () => {
  await page.goto(kase() + "/acquire");
  const whole = page.getByRole("row", { name: /24 Sep 2026/ });
  await expect(whole).toContainText("Harbour phone");
  await expect(whole).toContainText("OL-220");
  await expect(whole).toContainText("Orlop 6.2.1");
  await expect(whole).toContainText("whole");
  const torn = page.getByRole("row", { name: /2 Aug 2026/ });
  await expect(torn).toContainText("incomplete: 4 faults");
  await whole.getByRole("link", { name: "look inside" }).click();
  await page.getByRole("link", { name: "system/" }).click();
  await expect(page.getByRole("row", { name: /\.radio hidden/ })).toContainText("parcels/");
  await page.getByRole("navigation", { name: "Folder" }).getByRole("link", { name: "/" }).click();
  await expect(page.getByRole("row", { name: /media\// })).toContainText(/1\d\d/); // files in it and below
  await accessible(page);
  await page.goto(kase() + "/acquire");
  await accessible(page);
  await whole.getByRole("combobox").selectOption("014-A");
  await whole.getByRole("button", { name: "Acquire" }).click();
  const run = page.locator("[data-run]").first();
  // Paused, left, come back to, and resumed.
  await expect(run.locator('[data-part="bytes"]')).toContainText(/ of .*[1-9]/); // its files are listed
  await run.getByRole("button", { name: "Pause" }).click();
  await expect(run).toHaveAttribute("data-state", "paused");
  await page.goto(kase());
  await page.goto(kase() + "/acquire");
  await expect(run).toHaveAttribute("data-state", "paused");
  const [done, total] = (await run.locator('[data-part="bytes"]').innerText()).split(" of ").map((n) => Number(n.replace(/\D/g, "")));
  expect(done).toBeLessThan(total);
  await run.getByRole("button", { name: "Resume" }).click();
  await expect(run.locator('[data-part="rate"]')).toContainText("MiB/s");
  await expect(run.locator('[data-part="left"]')).toContainText(" s");
  await shot(page, "acquire");
  await page.goto(kase() + "/intake");
  await page.goto(kase() + "/acquire");
  await expect(page.locator('[data-state="done"]')).toBeVisible();
  await expect(page.getByText("014-A acquisition 1").first()).toBeVisible();
  // Who made it, on what, and how it came is asked, and stands in the report.
  await expect(page.getByText("is not stated;")).toBeVisible();
  await page.getByText("State where it came from").click();
  await page.getByLabel("Who made it").fill("the owner");
  await page.getByLabel("How it came from there to where it was acquired").fill("on a write-blocked stick, sealed B-220420");
  await accessible(page);
  await page.locator("details form").getByRole("button", { name: "State it" }).click();
  await expect(page.getByText("on a write-blocked stick, sealed B-220420")).toBeVisible();
  await expect(page.getByText("State it anew")).toBeVisible();
});

let source;
test("3. every hash, the manifest, and a byte changed by hand", async () => {
  await page.goto(kase() + "/verify?exhibit=014-A");
  await expect(page.locator('tbody[data-rows="files"] tr').first().locator("[data-digest]")).toHaveCount(3);
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "SHA-256", exact: true }).click();
  const manifest = await (await download).path();
  source = join(process.env.CROSSWIND_DIR, "backups", "harbour-phone-2026-09-24");
  const out = execFileSync("sha256sum", ["--check", "--strict", manifest], { cwd: source }).toString();
  expect(
    out
      .trim()
      .split("\n")
      .every((l) => l.endsWith(": OK")),
  ).toBe(true);
  const files = readdirSync(source, { recursive: true, withFileTypes: true }).filter((f) => f.isFile()).length;
  expect(out.trim().split("\n")).toHaveLength(files);
  const kept = files + 2; // and the databases that lie in two backups which an app made of itself
  const rows = page.locator('tbody[data-rows="files"] tr'); // a hundred at first, and more as one scrolls
  await expect(rows).toHaveCount(101);
  await expect
    .poll(async () => {
      await rows.last().evaluate((row) => row.scrollIntoView());
      return rows.count();
    })
    .toBe(kept);

  await page.getByRole("button", { name: "Check against the source" }).click();
  await expect(page.getByRole("row", { name: new RegExp(`source all ${files} hold`) })).toBeVisible();
  await page.getByRole("button", { name: "Check again from the vault" }).click();
  await page.locator("[data-run]").getByRole("button", { name: "Pause" }).click(); // half-way, the map shows how far it has come
  await expect(page.locator("[data-run]")).toHaveAttribute("data-state", "paused");
  expect(await page.locator(".segments .wait").count()).toBeGreaterThan(0);
  await page.getByRole("button", { name: "Resume" }).click();
  await expect(page.getByRole("row", { name: new RegExp(`vault all ${kept} hold`) })).toBeVisible();
  await accessible(page);
  await shot(page, "verify");

  const line = readFileSync(manifest, "utf8")
    .trim()
    .split("\n")
    .find((l) => statSync(join(source, l.slice(66))).size > 20e6);
  const [sum, name] = [line.slice(0, 64), line.slice(66)];
  const blob = join(process.env.CROSSWIND_DIR, "data", "vault", "sha256", sum.slice(0, 2), sum);
  const bytes = readFileSync(blob);
  chmodSync(blob, 0o600);
  bytes[5_000_000] ^= 1;
  writeFileSync(blob, bytes);
  await page.getByRole("button", { name: "Check again from the vault" }).click();
  const alarm = page.locator(".integrity");
  await expect(alarm).toContainText(name);
  await expect(alarm).toContainText("segment 5 (bytes 4194304 to 5242879)");
  await expect(alarm.locator("p")).toHaveCSS("color", "rgb(161, 29, 43)");
  await expect(page.locator(".segments .bad")).toHaveCount(1);
  await accessible(page);
  await page.goto(kase() + "/ledger");
  await expect(page.getByRole("row", { name: /integrity.failed/ })).toContainText(name);
  await page.goto(kase());
  await expect(page.getByRole("row", { name: /^014-A handset/ })).toContainText(`1 of ${kept} files differ`);

  bytes[5_000_000] ^= 1; // put right again, by hand as well
  writeFileSync(blob, bytes);
  chmodSync(blob, 0o400);
  await page.goto(kase() + "/verify?exhibit=014-A");
  await page.getByRole("button", { name: "Check again from the vault" }).click();
  await expect(page.locator(".integrity")).toHaveCount(0);
});

test("4. recovery from live rows, the holding area, free pages and free blocks", async () => {
  await page.goto(kase() + "/recover");
  await accessible(page);
  await page.getByRole("button", { name: "Full pass" }).click();
  const talk = page.getByRole("row", { name: /talk\.db/ });
  await expect(talk).toContainText("free block");
  await expect(talk).toContainText("free page");
  await expect(talk).toContainText(`held, in the holding area ${held()}`);
  await expect(page.getByRole("row", { name: /people\.db/ })).toContainText("free page");
  await expect(page.getByRole("row", { name: /ring\.db/ })).toContainText("ring 2");
  await expect(page.getByRole("row", { name: /ring\.db/ })).toContainText("with a privileged person");
  await shot(page, "recover");
});

test("4b. the page map: from the map to a page, its cells and the record, and back", async () => {
  await page.goto(kase() + "/recover");
  await page.getByRole("link", { name: "/data/talk/talk.db" }).click();
  await expect(page.getByRole("heading", { name: "Page map" })).toBeVisible();
  await expect(page.locator("#map-here")).toContainText("page 1: table, leaf of sqlite_schema");
  await accessible(page);
  // The first page where rows came back from a free block, by the keys alone.
  await page.getByLabel("Table").selectOption("line");
  await page.getByLabel("Recovered from").selectOption("free block");
  const map = page.getByRole("application");
  await map.focus();
  for (let n = 2; n < 90; n++) {
    await page.keyboard.press("ArrowRight");
    if (/of line, .* recovered from .*free block/.test(await page.locator("#map-here").innerText())) break;
  }
  await page.keyboard.press("Enter");
  const side = page.getByRole("region", { name: "The chosen page" });
  await expect(side).toContainText("table, leaf of line");
  await expect(page).toHaveURL(/page=\d+/);
  await expect(side.locator(".bytes mark[title='page header']").first()).toBeVisible();
  await expect(side.locator(".bytes mark[title='cell pointers']").first()).toBeVisible();
  await accessible(page);
  await shot(page, "page-map");
  // Map and legend are drawn anew for the night.
  const swatch = () =>
    page.evaluate(() => document.querySelector("[data-map-swatch='2']").getContext("2d").getImageData(8, 8, 1, 1).data.join());
  const day = await swatch();
  await page.getByRole("button", { name: "day/night" }).click();
  await expect.poll(swatch).not.toBe(day);
  await page.getByRole("button", { name: "day/night" }).click();
  await expect.poll(swatch).toBe(day);
  // A recovered cell is opened into its fields, and leads to its record.
  const found = side.locator(".page-cell.below").first();
  await found.locator("summary").click();
  await expect(found.locator("dt", { hasText: "body" })).toBeVisible();
  await found.getByRole("link", { name: /^Message/ }).click();
  const drawer = page.getByRole("dialog", { name: "Origin of the record" });
  await expect(drawer).toContainText(/free block|page gap/);
  const n = (await drawer.getByRole("link", { name: /on the page map/ }).innerText()).match(/\d+/)[0];
  await drawer.getByRole("link", { name: /on the page map/ }).click();
  await expect(side.getByRole("heading", { name: `Page ${n}` })).toBeVisible();
  // Where something of a database lies outside scope, its bytes are withheld.
  await page.goto(kase() + "/recover");
  await page.getByRole("link", { name: "/data/people/people.db" }).click();
  await page.goto(page.url() + "&page=3");
  await expect(side).toContainText("outside scope");
  await expect(side.locator(".bytes")).toContainText("--");
  await page.goto(page.url().replace(/page=\d+/, "page=99999"));
  await expect(page.getByRole("alert")).toContainText('has no page "99999"');
  await expect(page.locator("#map-here")).toContainText(/page \d\d:/); // the last one
  expect(faults.filter((f) => !f.includes("422"))).toEqual([]);
  faults.splice(0); // the refusal's own status
});

test("5. the evening: chart, list, conversation, origin, marks", async () => {
  await page.goto(kase() + "/examine");
  await accessible(page);
  const chart = page.locator("svg.waterline");
  for (const lane of ["Talk", "People", "Plans", "Media", "Web", "Places", "Documents", "Device"])
    await expect(chart.getByText(lane)).toBeVisible();
  // Brush to September, then go to the evening.
  const box = await chart.boundingBox();
  await page.mouse.move(box.x + 1130, box.y + 60);
  await page.mouse.down();
  await page.mouse.move(box.x + 1200, box.y + 60, { steps: 4 });
  await page.mouse.up();
  await expect(page).toHaveURL(/from=2026-0[89]/);
  await page.goBack();
  await expect(page).not.toHaveURL(/from=/);
  // The wheel zooms about the pointer, by as much as it is turned, and moves the chart when it is turned sideways.
  await page.goto(kase() + "/examine?from=2026-09-10T00:00:00Z&to=2026-09-13T00:00:00Z");
  const span = async () => [await chart.getAttribute("data-from"), await chart.getAttribute("data-to")].map((ms) => ms / 3600000);
  const [began, ended] = await span();
  await page.mouse.move(box.x + box.width / 2, box.y + 60);
  await page.mouse.wheel(200, 0);
  await expect.poll(async () => (await span())[0] - began).toBeCloseTo(18, 1);
  expect((await span())[1] - ended).toBeCloseTo(18, 1);
  for (let i = 0; i < 5; i++) await page.mouse.wheel(0, -20);
  await expect.poll(async () => (await span()).reduce((from, to) => to - from)).toBeCloseTo(48, 1);
  await page.goto(kase() + "/examine?from=2026-09-11T19:00:00Z&to=2026-09-11T23:00:00Z");
  await expect(page.locator("svg.waterline image[href]").first()).toBeAttached(); // photographs come when the chart is drawn
  const row = page.getByRole("row", { name: /the side gate/ });
  await expect(row).toContainText("22:03:");
  await expect(row).toContainText("21:03:");
  await expect(row).toContainText("Recovered · free block");
  await row.click();
  const pane = page.getByRole("complementary", { name: "Reading pane" });
  await expect(pane.locator(".said-bubble.chosen")).toContainText("the side gate");
  const said = await pane.locator(".said-bubble").allInnerTexts();
  const at = said.findIndex((s) => s.startsWith("the side gate"));
  expect(said[at - 1]).toBe("traffic. where");
  expect(said[at + 1]).toBe("how many fit");
  await shot(page, "examine");

  await page.keyboard.press("o");
  const drawer = page.getByRole("dialog", { name: "Origin of the record" });
  await expect(drawer).toContainText("/data/talk/talk.db");
  await expect(drawer).toContainText("the vault's bytes, read again now, have it");
  for (const line of (await drawer.locator("pre.bytes").textContent()).trimEnd().split("\n"))
    expect(line).toMatch(/^[0-9A-F]{6,}  ([0-9A-F]{2} ?){1,16} *  .{1,16}$/);
  const fact = async (name) => (await drawer.locator(`dt:text-is("${name}") + dd`).innerText()).replace(/[^\x20-\x7e]/g, "");
  const offset = parseInt((await fact("Offset")).split("=")[0]);
  const length = parseInt(await fact("Length"));
  const page86 = parseInt(await fact("Page"));
  const stored = (await fact("File")).match(/parcels\/[a-z0-9]+/)[0];
  const b = readFileSync(join(source, stored)).subarray(offset, offset + length);
  expect(b.includes("the side gate, not the quay. bring the long case")).toBe(true);
  expect(Math.floor(offset / 4096) + 1).toBe(page86);
  const shown = (await drawer.locator("pre.bytes mark").allInnerTexts()).join(" ").replace(/\s+/g, " ").trim();
  expect(shown).toBe([...b].map((x) => x.toString(16).toUpperCase().padStart(2, "0")).join(" "));
  await expect(drawer.locator('mark[title="body"]').first()).toBeVisible();
  await accessible(page);
  await shot(page, "origin");
  await page.keyboard.press("Escape");
  await expect(drawer).toHaveCount(0);

  for (const text of ["the side gate", "how many fit", "six if you", "leave the brass", "done. lights"]) {
    await page.getByRole("row", { name: new RegExp(text) }).click();
    await expect(page.locator(".said-bubble.chosen")).toContainText(text);
    await page.locator("#mark-reason").fill(`Bears on the theft: ${text}`);
    await page.getByRole("button", { name: "Mark", exact: true }).click();
    await expect(page.getByRole("button", { name: "Unmark" })).toBeVisible();
  }
  await page.keyboard.press("n");
  await page.getByLabel("Working note of this record").fill("ask about the brass\nbefore Friday");
  await page.getByRole("button", { name: "Keep" }).click();
  await expect(page.getByLabel("Working note of this record")).toHaveValue("ask about the brass\nbefore Friday");
  await expect(page.locator('tr[aria-selected="true"] [title="there is a working note"]')).toBeVisible();
  await page.goto(kase() + "/examine?marked=1");
  await expect(page.locator("tr[data-choose]")).toHaveCount(5);
});

test("people: who has which handles, why, and a ruling that is taken back", async () => {
  await page.goto(kase() + "/people");
  await accessible(page);
  await page.getByRole("link", { name: "Ketil", exact: true }).click();
  const person = page.getByRole("region", { name: "The person" });
  await expect(person).toContainText("+447700900417");
  await person.getByLabel("Also this person's: a handle").fill("+447700900634");
  await person.getByLabel("Because", { exact: true }).last().fill("both answer to it");
  await person.getByRole("button", { name: "Bring together" }).click();
  await expect(person).toContainText("ruling by R. Aske");
  await expect(person).toContainText("also Sunniva");
  await accessible(page);
  await person.getByLabel("Because", { exact: true }).first().fill("it was an error");
  await person.getByRole("button", { name: "Take back" }).click();
  await expect(person).not.toContainText("Sunniva");
  await person.getByRole("link", { name: /records$/ }).click();
  await expect(page.locator(".filter-words")).toContainText("with Ketil");
  await expect(page.locator("tr[data-choose]").first()).toContainText("Ketil");
  await page.getByRole("link", { name: "clock offsets not applied" }).click();
  await expect(page.locator(".chart-foot")).toContainText("clock offsets applied: 014-A 4.0 s fast");
  await page.goto(kase() + "/ledger");
  await expect(page.getByRole("row", { name: /person\.undone/ })).toContainText("it was an error");
  // A search from here leads to what is found.
  await page.goto(kase() + "/people");
  await page.locator("#search").fill("ketil");
  await page.keyboard.press("Enter");
  await expect(page.locator("svg.waterline")).toBeVisible();
  await expect(page.locator(".filter-words")).toContainText("ketil");
});

test("the encrypted backup: a wrong password, the right one, and its records", async () => {
  await page.goto(kase() + "/acquire");
  const locked = page.getByRole("row", { name: /14 Jun 2026/ });
  await expect(locked).toContainText("encrypted");
  await locked.getByRole("combobox").selectOption("014-B");
  await locked.getByRole("button", { name: "Acquire" }).click();
  await expect(page.getByRole("heading", { name: "014-B acquisition 1" })).toBeVisible();
  await page.goto(kase() + "/recover?exhibit=014-B");
  await accessible(page);
  await page.getByLabel("Password of the backup").fill("kittiwake");
  await page.getByRole("button", { name: "Unlock" }).click();
  await expect(page.getByRole("alert")).toContainText("the password does not open this backup");
  faults.splice(0);
  await page.getByLabel("Password of the backup").fill("cormorant-47");
  await page.getByRole("button", { name: "Unlock" }).click();
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "014-B acquisition 1" }) });
  await section.getByRole("button", { name: "Light pass" }).click();
  await expect(section.getByRole("row", { name: /talk\.db/ })).toContainText("talk 5");
  await page.goto(kase() + "/examine?exhibit=014-B");
  await page.locator("tr[data-choose]").nth(3).click();
  await page.locator("a[data-origin]").click();
  await expect(page.getByRole("dialog", { name: "Origin of the record" })).toContainText(
    "encrypted; offsets and hashes below are of its decrypted content",
  );
  await expect(page.getByRole("dialog", { name: "Origin of the record" })).toContainText("read again now, have it");
  await page.keyboard.press("Escape");
  await page.locator("#mark-reason").fill("From the encrypted backup");
  await page.getByRole("button", { name: "Mark", exact: true }).click();
  await expect(page.getByRole("button", { name: "Unmark" })).toBeVisible();
});

// What an examiner asks of the case, answered from the screen alone.
test("questions of the evening, and what the other phone says", async () => {
  await page.goto(kase() + "/intake");
  await page.getByText("Register an exhibit").click();
  for (const [id, value] of Object.entries({
    reference: "014-C",
    model_mark: "TN-7",
    serial: "TEST-0932-C",
    seal: "B-220431",
    place: "Desk",
    to: "R. Aske",
  }))
    await page.locator("#" + id).fill(value);
  await page.getByRole("button", { name: "Register the exhibit" }).click();
  await expect(page.getByRole("status")).toContainText("Exhibit 014-C is registered");
  for (const made of [/8 Sep 2026/, /22 Sep 2026/]) {
    await page.goto(kase() + "/acquire");
    const backup = page.getByRole("row", { name: made });
    await backup.getByRole("combobox").selectOption("014-C");
    await backup.getByRole("button", { name: "Acquire" }).click();
    await expect(page.locator('[data-state="running"], [data-state="queued"]')).toHaveCount(0);
  }
  await page.goto(kase() + "/recover?exhibit=014-C");
  for (const n of [1, 2]) {
    const section = page.locator("section.panel", { has: page.getByRole("heading", { name: `014-C acquisition ${n}` }) });
    await section.getByRole("button", { name: "Full pass" }).click();
    await expect(section.getByRole("row", { name: /wire\.sqlite/ })).toContainText("free");
  }
  const evening = kase() + "/examine?from=2026-09-11T18:00:00Z&to=2026-09-12T02:00:00Z";
  // Which conversation lost most that evening, and when was nobody writing? By keys alone.
  await page.goto(evening);
  await page.keyboard.press("c");
  await expect(page.locator("tr[data-choose]").first()).toContainText(/Ketil and owner.*13.*7/s);
  await accessible(page);
  await page.keyboard.press("j");
  await expect(page.locator(".talk-head")).toContainText("7 below");
  await expect(page.locator(".talk-silence", { hasText: "25 min" })).toBeVisible();
  await shot(page, "conversation");
  // Its messages are gone through by keys, like all records.
  const read = page.locator(".said-bubble.chosen");
  const [before] = await read.allInnerTexts();
  await page.keyboard.press("j");
  await expect(read).not.toHaveText(before);
  await page.keyboard.press("k");
  await expect(read).toHaveText(before);
  // Another conversation stands beside it, by the same times.
  await page.getByText("Another conversation beside it").click();
  await page.locator(".talk-apart a", { hasText: "Maren O. and owner" }).first().click();
  await expect(page.locator(".talk-names")).toContainText(/Ketil and owner.*Maren O. and owner/s);
  // What did the other phone keep? Both sides of a conversation, on one ruler.
  await page.getByRole("link", { name: "all conversations" }).click();
  await page.getByRole("link", { name: "Maren O. and owner" }).click();
  await expect(page.locator(".talk-names")).toContainText("014-C acquisition 2");
  await expect(page.locator(".talk-line", { hasText: "anybody going past the boatyard" }).locator(".said-bubble")).toHaveCount(2);
  await accessible(page);
  // Whom else did Ketil have to do with? By keys: the network, and who is chosen.
  await page.goto(evening + "&person=%2B447700900417");
  await page.keyboard.press("p");
  await expect(page.locator(".net-line:not(.quiet)", { hasText: "014-C" }).first()).toBeAttached();
  await expect(page.locator("aside.pane")).toContainText(/Deleted\s*10/);
  await accessible(page);
  await shot(page, "network");
  // What is drawn can be chosen: a person, a lane of the chart.
  await page.goto(evening);
  await page.keyboard.press("j");
  await expect(page).toHaveURL(/r=\d+/);
  await page.keyboard.press("p"); // with a record that is chosen, which a person takes the place of
  await expect(page).toHaveURL(/view=people/);
  await page.locator(".net-person", { hasText: "Tor-Ivar" }).click();
  await expect(page.locator("aside.pane h2")).toHaveText("Tor-Ivar");
  // They are gone through as all else is. Keys that are pressed before the answer to the last of them count all the same.
  const his = page.url();
  await page.keyboard.press("j");
  await expect(page.locator("aside.pane h2")).not.toHaveText("Tor-Ivar");
  await page.keyboard.press("k");
  await expect(page).toHaveURL(his);
  await expect(page.locator("aside.pane h2")).toHaveText("Tor-Ivar");
  const held = async (...keys) => {
    let pressed;
    const all = new Promise((done) => (pressed = done));
    await page.route("**/examine?*", (route) => all.then(() => route.continue()));
    for (const key of keys) await page.keyboard.press(key);
    pressed();
  };
  const back = page.waitForResponse((answer) => answer.url().replace(/#.*/, "") === his);
  await held("j", "k");
  await back;
  await expect(page.locator('.net-person[aria-current="true"]')).toContainText("Tor-Ivar");
  await expect(page.locator("aside.pane h2")).toHaveText("Tor-Ivar");
  await expect(page).toHaveURL(his);
  await page.goto(kase() + "/examine?from=2026-09-11T20:00:00Z&to=2026-09-11T22:00:00Z");
  await expect(page.locator("#part-list tr[data-id]").first()).toBeVisible();
  await held("ArrowRight", "ArrowRight", "+");
  await expect(page).toHaveURL(/from=2026-09-11T21(:|%3A)30(:|%3A)00Z&to=2026-09-11T22(:|%3A)30(:|%3A)00Z/);
  await page.goto(evening);
  await page.getByRole("link", { name: "Leave out Talk" }).click();
  await expect(page).toHaveURL(/kind=/);
  // A mark under the pointer can be chosen, and brings the list to its record, wherever that stands in it; with the pointer
  // drawn on from it, it is where a span begins.
  await page.goto(kase() + "/examine?exhibit=014-A&from=2026-09-11T20:00:00Z&to=2026-09-11T23:30:00Z");
  const mark = page.locator("rect.pick").nth(30);
  await mark.hover();
  await mark.click();
  await expect(page.locator('#part-list tr[aria-selected="true"]')).toBeInViewport();
  const [down] = await Promise.all([mark.boundingBox(), expect(page.locator("rect.pick.chosen")).toHaveCount(1)]);
  const whole = page.url();
  await page.mouse.move(down.x + 2, down.y + 4);
  await page.mouse.down();
  await page.mouse.move(down.x + 90, down.y + 4, { steps: 4 });
  await page.mouse.up();
  await expect(page).not.toHaveURL(whole);
  // What is chosen stays so in whatever else the chart and the views are asked for.
  await page.locator("#part-list tr[data-id]").nth(2).click();
  await page.getByRole("link", { name: "fold", exact: true }).click();
  await expect(page).toHaveURL(/chart=strip.*&r=\d+/);
  await page.locator("#part-list th").getByRole("link", { name: "Kind" }).click();
  await expect(page).toHaveURL(/&r=\d+&sort=kind/);
  await page.keyboard.press("c");
  await expect(page).toHaveURL(/&r=\d+&to=[^&]*&view=conversation/);
  // A list of many rows has those in the page that are near to what is seen, in their order, wherever it is scrolled to.
  await page.goto(kase() + "/examine");
  const records = page.locator("#part-list tr[data-id]");
  const list = page.locator("#part-list");
  const all = await list.evaluateHandle(() => new Set());
  const scrolled = (to) =>
    list.evaluate(
      (list, { all, to }) => {
        const view = list.getBoundingClientRect();
        const rows = [...list.querySelectorAll("tr[data-id]")];
        for (const row of rows) all.add(row.dataset.id);
        list.scrollTop = to * list.scrollHeight;
        const ids = [...all];
        const from = ids.indexOf(rows.find((row) => row.getBoundingClientRect().bottom > view.top + 40)?.dataset.id);
        const seen = rows.filter(
          (row) => row.getBoundingClientRect().bottom > view.top + 40 && row.getBoundingClientRect().top < view.bottom,
        );
        return {
          from,
          rows: rows.length,
          all: ids.length,
          inOrder: seen.every((row, i) => row.dataset.id === ids[from + i]),
          seen: seen.length,
        };
      },
      { all, to },
    );
  await expect.poll(async () => (await scrolled(1)).all).toBeGreaterThan(600);
  await expect.poll(async () => (await scrolled(0)).from).toBe(0);
  await records.first().click();
  for (const to of [0.5, 1, 0.25]) {
    let at;
    await expect.poll(async () => ((at = await scrolled(to)), at.seen > 4 && at.from > to * 300)).toBe(true);
    expect(at).toMatchObject({ inOrder: true });
    expect(at.rows).toBeLessThan(320);
  }
  // A key goes on from what is chosen, though that be far away.
  const second = await list.evaluate((list, all) => [...all][1], all);
  await page.keyboard.press("j");
  await expect(page.locator(`#part-list tr[data-id="${second}"][aria-selected="true"]`)).toBeInViewport();
  // One that begins in the middle goes on upwards, and leaves what is seen where it is.
  await expect.poll(async () => (await scrolled(1)).from).toBeGreaterThan(580);
  const upTo = page.url();
  await records.last().click();
  await expect(page).not.toHaveURL(upTo);
  await page.reload();
  const chosen = page.locator('#part-list tr[aria-selected="true"]');
  await expect.poll(() => records.count()).toBeGreaterThan(80); // those before have come by themselves
  await expect(chosen).toBeInViewport();
  // What was chosen when the list came can be chosen again.
  const first = page.url();
  await page.keyboard.press("j");
  await expect(page).not.toHaveURL(first);
  await page.keyboard.press("k");
  await expect(page).toHaveURL(first);
  await page.locator("#part-list").evaluate((list) => list.scrollTo(0, 0));
  await expect.poll(() => records.count()).toBeGreaterThan(140);
  await expect(chosen).not.toBeInViewport();
  // Where was the handset? Along the recovered fixes.
  await page.goto(evening);
  await page.keyboard.press("w");
  await expect(page.locator("table.legs tbody tr.below").first()).toContainText("1.32 km");
  await page.locator("table.legs tbody tr").nth(1).click();
  await expect(page.locator("aside.pane")).toContainText("what else lies within 500 m");
  await accessible(page);
  await shot(page, "places");
  // The map moves with the pointer and zooms about it, and by its links around what is chosen.
  const map = page.locator("svg.places");
  const spot = map.locator("circle.fix.chosen");
  const middle = (box) => [box.x + box.width / 2, box.y + box.height / 2];
  const [x, y] = middle(await spot.boundingBox());
  await page.mouse.move(x, y);
  await page.mouse.down();
  await page.mouse.move(x - 60, y + 40, { steps: 5 });
  await page.mouse.up();
  await expect(page).toHaveURL(/box=/);
  await expect(map).toHaveAttribute("viewBox", "0 0 888 400");
  const moved = middle(await spot.boundingBox());
  expect(Math.hypot(moved[0] - x + 60, moved[1] - y - 40)).toBeLessThan(6); // some are drawn as one with others
  await page.mouse.move(...moved);
  const by = +(await map.getAttribute("data-by"));
  await page.mouse.wheel(200, 0);
  for (let i = 0; i < 5; i++) await page.mouse.wheel(0, -20);
  await expect.poll(async () => +(await map.getAttribute("data-by")) / by).toBeCloseTo(1.25, 2);
  expect(Math.hypot(...middle(await spot.boundingBox()).map((at, i) => at - moved[i]))).toBeLessThan(8);
  await page.getByRole("link", { name: "nearer", exact: true }).click();
  await expect.poll(async () => +(await map.getAttribute("data-by")) / by).toBeCloseTo(2.5, 1);
  await page.getByRole("link", { name: "all places" }).click();
  await expect(page).not.toHaveURL(/box=/);
  // The way is drawn as time goes by.
  const begun = await page.getByRole("button", { name: "play" }).evaluate((play) => {
    play.click();
    return [...document.querySelectorAll("svg.places .way")].map((way) => way.getAttribute("d")).join("");
  });
  expect(begun).toBe("");
  await expect(map.locator(".way[d^=M]").first()).toBeAttached();
  // Which photograph is gone, and what was it of? The map's last move does not come along.
  await page.mouse.move(...middle(await map.boundingBox()));
  await page.mouse.wheel(0, -100);
  await page.keyboard.press("g");
  await expect(page).toHaveURL(/view=gallery/);
  await expect(page.locator(".picture.lost")).toContainText("no photograph at its path");
  await expect(page.locator(".picture.lost img")).toBeVisible();
  await page.locator(".picture.lost").click();
  await expect(page).not.toHaveURL(/box=/);
  await expect(page.locator("aside.pane")).toContainText("C0053.jpg");
  await accessible(page);
  await shot(page, "gallery");
  // Which photograph's own date is another than the library has?
  await page.goto(kase() + "/examine?view=gallery&exhibit=014-A&from=2026-07-01T00:00:00Z&to=2026-07-12T00:00:00Z");
  await page.locator(".picture:has(.corner)").first().click();
  await expect(page.locator("aside.pane")).toContainText(
    /The file itself\s+has it taken 9 Jul 2026 04:13:23 \+01:00, 12 h 00 min later:\s+contradicts/,
  );
  // What went from the other phone, and between which dates?
  await page.goto(kase() + "/examine?view=compare&exhibit=014-C&from=2026-09-01T00:00:00Z&to=2026-09-25T00:00:00Z");
  await expect(page.locator("h3", { hasText: "Missing later" })).toBeVisible();
  const sums = page.getByRole("row", { name: /300 now, 300 after/ });
  await expect(sums).toContainText("recovered, page gap");
  await expect(sums.getByRole("img")).toHaveAccessibleName(/between 8 Sep 2026 22:12:40 .* and 22 Sep 2026 22:12:07/);
  await accessible(page);
  await shot(page, "compare");
  // It hangs below the line, and stands in a list of its own.
  await page.goto(kase() + "/examine?exhibit=014-C");
  await page.getByRole("link", { name: /^[\d\s]+missing later$/ }).click();
  await expect(page.locator(".filter-words")).toContainText("missing later");
  await expect(page.locator("tr[data-id].later").first()).toContainText("Intact · missing later");
  await expect(page.locator(".bar-below.later[d^=M]").first()).toBeAttached();
  await accessible(page);
  await page.goto(kase() + "/examine?view=compare&exhibit=014-C&from=2026-09-01T00:00:00Z&to=2026-09-25T00:00:00Z");
  // What is known to have gone between these dates, by all sources? In the line of words, and the list's columns by choice.
  await page.keyboard.press("/");
  await page.locator("#search").fill("deleted:2026-09-08T21:00Z/2026-09-22T22:00Z kind:note");
  await page.keyboard.press("Enter");
  await expect(page.locator(".filter-words")).toContainText("deleted between 8 Sep 2026 22:00 +01:00 and 22 Sep 2026 23:00 +01:00");
  await page.keyboard.press("l");
  await page.getByText("columns", { exact: true }).click();
  await page.getByLabel("Read from").check();
  await page.getByLabel("Exhibit", { exact: true }).uncheck();
  await page.getByRole("button", { name: "Show these" }).click();
  await expect(page.getByRole("columnheader", { name: "Read from" })).toBeVisible();
  await expect(page.getByRole("columnheader", { name: "Exhibit" })).toHaveCount(0);
  await page.getByRole("columnheader", { name: "What" }).getByRole("link").click();
  await expect(page.getByRole("columnheader", { name: "What" })).toHaveAttribute("aria-sort", "ascending");
  await page.locator("tr[data-id]", { hasText: "300 now, 300 after" }).first().click();
  await expect(page.locator("aside.pane")).toContainText(
    /Deletion window.*acquisition 1 still has it;\s+acquisition 2 does not have it live/s,
  );
  await accessible(page);
  // What is filtered leaves as a table, for somebody; the ledger says so, and with which digest.
  await page.getByText("take out", { exact: true }).click();
  await page.getByLabel("For whom").fill("Counsel for the defence");
  const leaving = page.waitForEvent("download");
  await page.getByRole("button", { name: "Take out" }).click();
  const table = readFileSync(await (await leaving).path());
  expect(table.toString()).toContain("300 now, 300 after");
  await page.goto(kase() + "/report");
  await expect(page.locator("#part-package")).toContainText("Counsel for the defence");
  await expect(page.locator(`[data-digest="${createHash("sha256").update(table).digest("hex")}"]`)).toBeVisible();
  // Whose handset tells a call of the evening otherwise?
  await page.goto(kase() + "/examine?view=compare&from=2026-09-01T00:00:00Z&to=2026-09-25T00:00:00Z");
  for (const [side, ref] of [
    ["First", "014-A"],
    ["Second", "014-C"],
  ]) {
    const choice = page.getByLabel(side, { exact: true });
    await choice.selectOption(await choice.locator("option", { hasText: ref }).last().getAttribute("value"));
  }
  await page.getByRole("button", { name: "Compare", exact: true }).click();
  const call = page.locator("tr", { hasText: "11 Sep 2026 23:10:05" });
  await expect(call).toContainText(/0 s.*0 min 47 s.*contradict each other/s);
  await accessible(page);
  await call.getByRole("link").first().click();
  // How many rows are missing, of which there is nothing?
  await page.keyboard.press("h");
  await expect(page.locator(".gap-table", { hasText: "missing" }).first()).toBeVisible();
  await expect(page).toHaveTitle(/^Gaps · /);
  await accessible(page);
  // The tables go on as one scrolls, and the runs of one when they are asked for, which leaves the rest as it is.
  const gaps = page.locator(".gap-table:has(svg)");
  await expect(gaps.getByText(/^(between rows|after a row) of /).first()).toBeVisible();
  const runs = gaps.first().locator("tr");
  await expect(runs).toHaveCount(9);
  const firsts = await runs.allInnerTexts();
  await shot(page, "gaps");
  await page.keyboard.press("j");
  const [gap, beside] = [page.locator('.gap-table tr[aria-selected="true"]'), page.locator("aside.pane")];
  await expect(gap).toHaveCount(1);
  await expect(beside).toContainText((await gap.getByRole("link").first().innerText()).slice(-8)); // the time of the row beside it
  await gaps
    .first()
    .getByRole("link", { name: /more runs?$/ })
    .press("Enter");
  await expect.poll(() => runs.count()).toBeGreaterThan(9);
  expect((await runs.allInnerTexts()).slice(0, 8)).toEqual(firsts.slice(0, 8));
  await expect(runs.nth(8).getByRole("link").first()).toBeFocused();
  // A list that could not go on has not ended,
  await page.route(/tables=/, (route) => route.fulfill({ status: 500, body: "" }));
  const fails = page.waitForResponse(/tables=/);
  await page.reload();
  const end = page.getByRole("link", { name: "More tables" });
  await end.scrollIntoViewIfNeeded();
  await fails;
  await expect.poll(() => faults.length).toBeGreaterThan(0);
  await expect(end).toBeVisible();
  await page.unroute(/tables=/); // and tries again
  await expect
    .poll(async () => {
      await page.locator("#part-list").evaluate((list) => list.scrollTo(0, list.scrollHeight));
      return gaps.count();
    })
    .toBeGreaterThan(11);
  expect(faults.splice(0).filter((f) => !f.includes("500"))).toEqual([]);
  // What lies beside the app's database, and what is in it?
  await page.goto(kase() + "/examine?exhibit=014-A&view=files&dir=%2Fdata%2Ftalk");
  await page.getByRole("link", { name: "talk.db", exact: true }).first().click();
  await expect(page.locator("aside.pane")).toContainText("talk.db");
  const apps = new URL(page.url());
  apps.searchParams.set("dir", "/data");
  await page.goto(apps.href);
  await expect(page.locator("aside.pane")).toContainText("talk.db");
  await shot(page, "files");
  // A long list goes on as it is scrolled, to its end.
  await page.goto(kase() + "/examine?exhibit=014-A&view=files&named=a");
  const here = Number((await list.innerText()).match(/([\d\u202f]+)\s+files\s+here/)[1].replace("\u202f", ""));
  expect(here).toBeGreaterThan(200);
  await expect(async () => {
    await list.evaluate((el) => el.scrollTo(0, el.scrollHeight));
    expect(await list.locator("tr[data-choose]").count()).toBe(here);
  }).toPass();
  await page.goto(kase() + "/examine?exhibit=014-A&view=files&ending=html");
  await page.getByRole("link", { name: "ferry times.html" }).first().click();
  await expect(page.locator("aside.pane")).toContainText(/What it holds.*In fog ask at the desk/s);
  await accessible(page);
  // What is filtered stands in words, each with its own way to take it off.
  await page.goto(kase() + "/examine?q=with:ketil+state:recovered+brass");
  await expect(page.locator(".filter-words")).toContainText("with somebody called ketil");
  await expect(page.locator("tr[data-choose]")).toHaveCount(2);
  await page.getByRole("link", { name: "Take off: the words brass" }).click();
  await expect(page.locator("tr[data-choose]").nth(8)).toBeVisible();
});

test("search narrows by words, kind and state, and markup stays text", async () => {
  // What is refused is shown as a page; what has not come yet when something else is asked for comes with that.
  await page.goto(kase() + "/examine");
  await page.evaluate(() => void window.Crosswind.visit("?after=zzz"));
  await expect(page.getByRole("heading", { name: "This cannot be read" })).toBeVisible();
  faults.splice(0);
  await page.goto(kase() + "/examine");
  await page.evaluate(() => {
    window.Crosswind.visit("?q=kind:call");
    window.Crosswind.visit("?q=kind:contact", { parts: ["pane"] });
  });
  await expect(page).toHaveURL(/kind:contact/);
  await expect(page.locator(".filter-words")).toContainText("contacts");
  await expect(page.locator("[aria-busy]")).toHaveCount(0);
  // What is typed while a page draws itself anew is kept, though nothing was typed when that began.
  await page.keyboard.press("j");
  await expect(page.locator('tr[aria-selected="true"]')).toHaveCount(1);
  await expect(page.locator("#mark-reason")).toBeVisible();
  let answer;
  const held = new Promise((go) => (answer = go));
  await page.route("**/examine*", (route) => held.then(() => route.continue()));
  const drawn = page.evaluate(() => window.Crosswind.visit(location.href, { push: false, asked: false }));
  await expect(page.locator("#part-pane[aria-busy]")).toBeAttached();
  await page.keyboard.press("m");
  await page.keyboard.type("kept");
  await page.keyboard.press("Escape");
  answer();
  await drawn;
  await expect(page.locator("#mark-reason")).toHaveValue("kept");
  await expect(page.locator("[aria-busy]")).toHaveCount(0);
  await page.unroute("**/examine*");
  await page.goto(kase() + "/examine");
  await page.keyboard.press("/");
  await page.keyboard.type("kind:call state:recovered Maren");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/q=kind/);
  await expect(page.locator("tr[data-choose]").first()).toContainText("Maren O.");
  const asked = page.url();
  const texts = await page.locator("tr[data-choose]").allInnerTexts();
  expect(texts.length).toBeGreaterThan(0);
  expect(texts.every((t) => t.includes("Recovered"))).toBe(true);
  // Exhibit and conversation narrow in the same line; what narrows by nothing says so, and so does what cannot be read.
  await page.goto(kase() + "/examine?view=gaps");
  await page.keyboard.press("/");
  await page.keyboard.type('exhibit:014-a conversation:"maren o" exibit:014-C exhibit:nine');
  await page.keyboard.press("Enter");
  const only = page.locator(".filter-words");
  await expect(only).toContainText(/of exhibit 014-A.*of conversations called maren o.*exibit:014-C, since nothing narrows by exibit:/s);
  await expect(page.locator(".chart-foot")).toContainText("exhibit:nine: it cannot be read as an exhibit of the case");
  await expect(page.locator("main")).not.toContainText("014-C acquisition");
  await page.keyboard.press("l");
  await page.getByRole("link", { name: /^Take off: the words exibit/ }).click();
  await expect(page.locator("tr[data-choose]").first()).toContainText("014-A");
  await expect(page.locator("tr[data-choose]", { hasText: "014-C" })).toHaveCount(0);
  await page.keyboard.press("j");
  await page.getByText("More of this record").click();
  await page.getByRole("link", { name: "nothing but this one" }).click();
  await expect(only).toContainText(/of the conversation Maren O. and owner in \S+, acquisition \d of 014-A/);
  await page.keyboard.press("c");
  await expect(page.locator(".talk-head")).toContainText("Maren O. and owner");
  await page.getByRole("link", { name: "list of its records" }).click();
  await expect(page.locator("nav.views [aria-current]")).toContainText("list");
  // By keys alone a range is picked, and let go or marked with one reason.
  await page.goto(kase() + "/examine?exhibit=014-A&q=kind:call+state:recovered");
  for (const key of ["j", "x", "j", "j", "X"]) {
    await page.keyboard.press(key);
    if (key === "j") await expect(page.locator('tr[aria-selected="true"]')).toHaveCount(1);
  }
  await expect(page.locator("tr[data-picked]")).toHaveCount(3);
  await expect(page.locator("form.picked")).toContainText("3 picked records");
  await page.keyboard.press("x");
  await expect(page.locator("tr[data-picked]")).toHaveCount(2);
  await accessible(page);
  await page.getByRole("button", { name: "Let go" }).click();
  await expect(page.locator("form.picked")).toBeHidden();
  await page
    .locator("tr[data-id]")
    .nth(0)
    .click({ modifiers: ["Control"], position: { x: 300, y: 8 } });
  await page.keyboard.press("m");
  await page.keyboard.type("A call that was deleted");
  await page.keyboard.press("Tab");
  await page.keyboard.type("lost");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("status").first()).toContainText("One record is marked: A call that was deleted");
  await expect(page.locator('tr[data-id]:first-child [title="marked: A call that was deleted"]')).toBeVisible();
  await expect(page.locator('tr[data-id]:first-child[aria-selected="true"]')).toBeVisible(); // where the list comes to
  // What was said of it is not said of the next view.
  await page.keyboard.press("p");
  await expect(page.locator("nav.views [aria-current]")).toContainText("people");
  await expect(page.getByText("One record is marked")).toHaveCount(0);
  await page.keyboard.press("l");
  await page.locator("tr[data-id]").nth(0).click();
  await page.getByRole("button", { name: "Unmark" }).click();
  await page.goto(asked);
  // It can be saved under a name, found again by keys, and taken away.
  await page.locator("body").press("s");
  await page.getByLabel(/^Save what is filtered now/).fill("Maren's <b>lost</b> calls");
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await page.goto(kase() + "/examine?view=words");
  await page.getByRole("link", { name: "Maren's <b>lost</b> calls" }).click();
  await expect(page.locator("tr[data-choose]")).toHaveCount(texts.length);
  expect(new URL(page.url()).searchParams.get("q")).toBe(new URL(asked).searchParams.get("q"));
  // Words are looked for at once, a line each, and counted by kind.
  await page.goto(kase() + "/examine?view=words");
  await page.getByLabel(/^Words to look for at once/).fill('instrument*\n"side gate"\nbrass state:recovered\nvan');
  await page.getByRole("button", { name: "Look for them" }).click();
  await expect(page.getByRole("row", { name: /brass state:recovered/ })).toContainText(/recovered\s+\d+\s+\d+/);
  await accessible(page);
  await shot(page, "words");
  await page.getByRole("button", { name: "forget" }).click();
  await expect(page.getByText("None yet.")).toBeVisible();
  // What a PDF says is found, though its record does not say it.
  await page.goto(kase() + "/examine?exhibit=014-A&q=keel+metres");
  await expect(page.locator("tr[data-id]").first()).toContainText("In the text of the file");
  await page.goto(kase() + "/examine?q=" + encodeURIComponent("<img src=x onerror=alert(1)>"));
  await expect(page.getByText("No record lies here.")).toBeVisible();
  await page.goto(kase() + "/examine?q=" + encodeURIComponent("+44 7700 900551")); // counsel's: withheld
  await expect(page.getByText("No record lies here.")).toBeVisible();
  await page.goto(kase() + "/examine?from=yesterday");
  await expect(page.getByText("is not a time by RFC 3339")).toBeVisible();
  // A key that is pressed before all of the scripts are there is answered, without loading the page anew.
  await page.goto(kase() + "/examine", { waitUntil: "domcontentloaded" });
  await page.evaluate(() => (window.loaded = "once"));
  await page.keyboard.press("p");
  await expect(page.locator("nav.views [aria-current]")).toHaveText(/people/);
  expect(await page.evaluate(() => window.loaded)).toBe("once");
  // The title is that of the view which was asked for last, though the answer before it comes later.
  let letGo;
  const late = new Promise((done) => (letGo = done));
  await page.route(/view=gallery/, async (route) => {
    const response = await route.fetch();
    await late;
    await route.fulfill({ response });
  });
  await page.evaluate(() => {
    window.overtaken = new Promise((done) =>
      document.addEventListener("ajax:success", (event) => /gallery/.test(event.detail.url) && setTimeout(done)),
    );
  });
  await page.keyboard.press("g");
  await page.keyboard.press("w");
  await expect(page).toHaveTitle(/^Places/);
  letGo();
  await page.evaluate(() => window.overtaken);
  await expect(page).toHaveTitle(/^Places/);
  await page.unroute(/view=gallery/);
  // A list goes on once, though something else comes while its end is being fetched.
  await page.route(/after=/, async (route) => {
    await page.evaluate(() => document.dispatchEvent(new Event("crosswind:visited")));
    await new Promise((done) => setTimeout(done, 300));
    await route.continue();
  });
  await page.goto(kase() + "/examine");
  await page.locator("#part-list").evaluate((list) => (list.scrollTop = list.scrollHeight));
  await expect.poll(() => page.locator("tr[data-id]").count()).toBeGreaterThan(60);
  const rows = await page.locator("tr[data-id]").evaluateAll((all) => all.map((row) => row.dataset.id));
  expect(new Set(rows).size).toBe(rows.length);
  await page.unrouteAll({ behavior: "wait" });
});

test("a film shows frames, a memo plays, a thumbnail outlives its photograph", async () => {
  const pane = page.getByRole("complementary", { name: "Reading pane" });
  const wide = (img) => img.evaluate((i) => i.decode().then(() => i.naturalWidth));
  await page.goto(kase() + "/examine?kind=video&exhibit=014-A");
  await page.locator("tr[data-choose]").first().click();
  expect(await wide(pane.locator("img.shown"))).toBe(804); // two frames of 400, and what parts them
  await page.goto(kase() + "/examine?kind=recording&exhibit=014-A&q=note");
  await page.locator("tr[data-choose]").last().click(); // in an old voice codec
  expect(await wide(pane.locator("img.wave"))).toBe(640);
  const played = await pane.locator("audio").evaluate(async (a) => {
    a.load();
    await new Promise((done, fail) => ((a.onloadedmetadata = done), (a.onerror = fail), (a.preload = "auto")));
    return a.duration;
  });
  expect(played).toBeGreaterThan(8.6); // of 8.98 s, the last of which are silent
  expect(played).toBeLessThan(9.1);
  // What was said in a message plays in its conversation.
  await page.goto(kase() + "/examine?exhibit=014-A&view=conversation&q=" + encodeURIComponent("kind:message type:wav"));
  await page.locator("tr[data-choose], a.talk-choice").first().click();
  const spoken = page.locator("audio.said-sound").first();
  expect(
    await spoken.evaluate(async (a) => {
      await new Promise((done, fail) => ((a.onloadedmetadata = done), (a.onerror = fail), (a.preload = "auto")));
      return a.duration;
    }),
  ).toBeGreaterThan(1.5);
  await accessible(page);
  await page.goto(kase() + "/examine?kind=thumbnail&state=below&exhibit=014-A");
  await page.locator("tr[data-choose]").first().click();
  expect(await wide(pane.locator("img.shown"))).toBeGreaterThan(60);
  await expect(pane).toContainText("Of the file");
});

test("databases: rows that are live and lost together, SQL, and a field map made by pointing", async () => {
  const pane = page.getByRole("complementary", { name: "Reading pane" });
  await page.goto(kase() + "/examine?exhibit=014-A");
  await page.keyboard.press("d");
  await page.getByRole("link", { name: "/data/talk/talk.db", exact: true }).click();
  await page.getByRole("link", { name: /^line/ }).click();
  await page.getByRole("columnheader", { name: "sent" }).getByRole("link").click();
  await expect(page.getByRole("columnheader", { name: "sent" })).toHaveAttribute("aria-sort", "ascending");
  await page.getByLabel("Rows", { exact: true }).selectOption("below");
  await page.getByRole("button", { name: "Show" }).click();
  await expect(page.locator("tr[data-choose]:not(.below)")).toHaveCount(0);
  await page.locator("tr.below").first().click();
  await expect(pane).toContainText("as milliseconds since 2001");
  await pane.getByRole("link", { name: /^Message/ }).click();
  await expect(pane).toContainText("Recovered");
  await page.goBack();
  await accessible(page);
  await shot(page, "databases");
  await page.getByText("Ask in SQL").click();
  const sql = page.getByLabel(/^SQL over the rows/);
  await sql.fill("SELECT peer, row_state, count(*) AS n FROM line GROUP BY 1, 2 ORDER BY n DESC");
  await page.getByRole("button", { name: "Ask" }).click();
  await expect(page.getByRole("region", { name: "Answer" }).locator("tbody tr").first()).toContainText("+44 7700 900417");
  await sql.fill("DELETE FROM line");
  await page.getByRole("button", { name: "Ask" }).click();
  await expect(page.getByRole("alert")).toContainText("readonly");
  // What no map reads is pointed at, tried, saved, and read.
  await page.getByRole("link", { name: "all databases" }).click();
  await page.getByRole("link", { name: "/data/habits/habits.db", exact: true }).click();
  await page.getByRole("link", { name: /^entry/ }).click();
  await page.getByRole("link", { name: "Make a field map for entry" }).click();
  await expect(page.getByRole("row", { name: /^at / })).toContainText("if they are seconds since 2001");
  await expect(page.getByRole("row", { name: /^habit / })).toContainText("are those of id in habit");
  await expect(page.getByLabel("habit is looked up in", { exact: true })).toHaveValue("habit.id, giving title");
  await page.getByLabel("mood is", { exact: true }).selectOption("a further fact");
  await page
    .getByRole("row", { name: /^extra / })
    .getByLabel("in its JSON")
    .fill("note");
  await page.getByLabel(/^Each row of/).selectOption("message");
  await page.getByRole("button", { name: "Try it" }).click();
  await expect(page.getByRole("status")).toContainText("1 022 outside scope, with an unknown party"); // as messages of nobody are
  await page.getByLabel(/^Each row of/).selectOption("note");
  await page.getByRole("button", { name: "Try it" }).click();
  await expect(page.getByRole("status")).toContainText("987 intact");
  await expect(page.getByRole("region", { name: "What the map gives" })).toContainText("Row before breakfast");
  await accessible(page);
  await page.getByLabel(/^The map's file/).fill("name = 1");
  await page.getByRole("button", { name: /^Save and use/ }).click();
  await expect(page.locator("main")).toContainText("the field map is not saved");
  expect(faults.splice(0)).toEqual([expect.stringContaining("400 (Bad Request)")]);
  await page.goBack();
  await page.getByRole("button", { name: "Try it" }).click();
  await expect(page.getByLabel(/^The map's file/)).toHaveValue(/name = "habits"/);
  await page.getByRole("button", { name: /^Save and use/ }).click();
  await expect(page.getByRole("status")).toContainText("The field map habits 1 is saved");
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "014-A acquisition 1", exact: true }) });
  await section.getByRole("button", { name: "Full pass" }).click();
  await expect(section.getByRole("row", { name: /habits\.db/ })).toContainText("habits 1");
  await page.goto(kase() + "/examine?exhibit=014-A&in=" + encodeURIComponent("/data/habits/habits.db") + "&q=swell");
  await page.locator("tr[data-choose]").first().click();
  await expect(pane).toContainText("swell");
});

let path, redacted; // of the package
test("6. the report, printed, and the package", async () => {
  await page.goto(kase() + "/report");
  const report = page.locator("article.report");
  for (const text of [
    "VS 412/26",
    "014-B",
    "H. Vold",
    "local backup, file by file",
    "Crosswind 0.1",
    "MD5, SHA-1, SHA-256",
    "How it came: on a write-blocked stick, sealed B-220420",
    "Checked again",
    `holding area: ${held()}`,
    "the side gate, not the quay",
    "Bears on the theft: how many fit",
    "Only marked records are set here",
    "Apps number the rows of a table as they write them",
    "Nothing was measured of the build that writes this report",
    "Limits of the method",
    "Definitions",
    "Appendices",
    "By which the databases were read",
  ]) {
    await expect(report).toContainText(text);
  }
  await expect(report.locator(".record")).toHaveCount(6); // five, and one from the encrypted backup
  // What was found is written on the page, and rests on records.
  await page.getByLabel("What was found, in one line").fill("Messages of the evening are not in the app's table");
  await page.getByLabel(/^In full/).fill("They lie where it no longer looks.");
  await page.getByRole("button", { name: "Save the finding" }).click();
  const waiting = page.getByRole("group", { name: "Marked records under no finding" });
  await expect(waiting.getByRole("checkbox")).toHaveCount(6);
  await waiting.getByRole("checkbox", { name: /how many fit/ }).check();
  await waiting.getByRole("checkbox", { name: /the side gate/ }).check();
  await page.getByRole("button", { name: "Place", exact: true }).click();
  await expect(waiting.getByRole("checkbox")).toHaveCount(4);
  await expect(report.locator(".citations li")).toHaveCount(2);
  await page.getByRole("button", { name: "Move Findings up" }).click();
  await expect(report.getByRole("heading", { name: "6. Findings" })).toBeVisible();
  await page.getByRole("button", { name: "Leave Questions asked out" }).click();
  await expect(report.getByRole("heading", { name: "5. Findings" })).toBeVisible();
  // Words are redacted: the redacted version has them nowhere, page and PDF, and the full one has.
  await report.locator(".record blockquote", { hasText: "how many fit" }).first().click({ clickCount: 3 });
  await expect(page.getByLabel(/^Words, or a number/)).toHaveValue("how many fit");
  await page.getByLabel("Reason").first().fill("another inquiry");
  await page.getByRole("button", { name: "Redact them" }).click();
  await expect(page.getByText(/another inquiry; in\s+\d+\s+places/)).toBeVisible();
  await page.getByRole("link", { name: "Show the redacted version" }).click();
  await expect(report).toContainText("[redacted 1]");
  await expect(report).not.toContainText("how many fit");
  const taken = async (which) => {
    await page.getByLabel("For whom").fill("Harbour Court");
    await page.getByRole("radio", { name: which }).check();
    const download = page.waitForEvent("download");
    await page.getByRole("button", { name: "PDF", exact: true }).click();
    const words = spawnSync("pdftotext", [await (await download).path(), "-"]);
    expect(words.status).toBe(0);
    return String(words.stdout);
  };
  expect(await taken("redacted")).not.toContain("how many fit");
  expect(await taken("full")).toContain("how many fit");
  redacted = await packaged(page, kase(), "Make the redacted package");
  await page.goto(kase() + "/report");
  await accessible(page);
  await page.getByRole("button", { name: "Take redaction 1 back" }).click();
  await expect(page.getByText("Nothing is redacted")).toBeVisible();
  await page.getByRole("button", { name: "Ask for its review" }).click();
  await expect(page.getByRole("heading", { name: "Version 6, submitted" })).toBeVisible();
  await expect(report).toContainText("What contradicts the chain of custody of 014-A");
  // Somebody else reads and accepts it, and it is signed: the package has it as it was then.
  const other = await page.context().browser().newContext();
  const reviewer = await other.newPage();
  await signIn(reviewer, "reviewer", "lens-and-lead");
  await reviewer.goto(kase() + "/report");
  await reviewer.getByLabel("To who wrote it").fill("It says what the records say.");
  await reviewer.getByRole("button", { name: "Accept it" }).click();
  await expect(reviewer.getByRole("heading", { name: "Version 6, accepted" })).toBeVisible();
  await other.close();
  await page.goto(kase() + "/report");
  await page.getByRole("button", { name: "Sign it" }).click();
  await expect(page.getByRole("heading", { name: "Version 6, signed" })).toBeVisible();
  await expect(report.locator(".record", { hasText: "the side gate" })).toContainText(/22:03:\d\d \+01:00 =\s+2026-09-11 21:03:\d\dZ/);
  await accessible(page);
  await shot(page, "report");
  expect((await page.pdf()).length).toBeGreaterThan(20_000);
  await page.emulateMedia({ media: "print" });
  await expect(page.locator("header.course")).toBeHidden();
  await page.emulateMedia({ media: "screen" });
  path = await packaged(page, kase());
});

test("7. the package verifies elsewhere, and every fault is named", async () => {
  const verify = (path) => spawnSync("bin/crosswind", ["verify", path], { env: {} });
  const good = verify(path);
  expect(good.stdout.toString()).toContain("holds: case SAL-26-014");
  expect(good.status).toBe(0);
  const dir = path.replace(/\.zip$/, "");
  expect(execFileSync("unzip", ["-p", path], { maxBuffer: 1 << 30 }).includes("before Friday")).toBe(false); // a working note stays here
  execFileSync("unzip", ["-q", path, "-d", join(dir, "..")]);
  expect(verify(dir).status).toBe(0);
  // A verifier in another language, from the description of the format alone, agrees, here and on all that is broken below.
  expect(faultsOf(dir)).toMatchObject({ faults: [], records: 6 });
  expect(readFileSync(join(dir, "data/signed/report-6.html"), "utf8")).toContain("Reviewed and accepted by");
  expect(readFileSync(join(dir, "data/signed/report-6.pdf"), "latin1")).toContain("/Sig");
  // So do both of the redacted package, in whose files what was redacted is not.
  const less = redacted.replace(/\.zip$/, "");
  execFileSync("unzip", ["-q", redacted, "-d", join(less, "..")]);
  for (const p of [redacted, less]) expect(verify(p).stdout.toString()).toContain("a redacted package");
  expect(faultsOf(less)).toMatchObject({ faults: [], records: 0 });
  expect(execFileSync("unzip", ["-p", redacted], { maxBuffer: 1 << 30 }).includes("how many fit")).toBe(false);
  writeFileSync(join(less, "data/records.jsonl"), "");
  expect(verify(less).status).toBe(1);
  expect(faultsOf(less).faults).not.toHaveLength(0);
  // The reader's page works the same out in a browser, from the archive alone.
  await page.goto("file://" + join(dir, "data/reader.html"));
  await page.locator("#zip").setInputFiles(path);
  await expect(page.getByRole("status")).toContainText("read: ");
  await expect(page.locator("#checks")).toContainText("6 of 6 records");
  await expect(page.locator("#checks .fails")).toHaveCount(0);
  await expect(page.locator("#checks")).toContainText("the seal is signed by the key");
  await accessible(page);
  const other = readFileSync(path);
  other[other.indexOf("the side gate", other.indexOf("data/cells/"))] ^= 1;
  writeFileSync(path + ".other.zip", other);
  await page.locator("#zip").setInputFiles(path + ".other.zip");
  await expect(page.locator("#checks .fails").first()).toContainText("is not as it was sealed");
  await expect(page.locator("#checks")).toContainText("5 of 6 records");
  expect(execFileSync("sha256sum", ["-c", "--strict", "manifest-sha256.txt"], { cwd: dir }).toString()).not.toContain("FAILED");
  const broken = (name, change) => {
    const copy = dir + "-broken";
    rmSync(copy, { recursive: true, force: true });
    cpSync(dir, copy, { recursive: true });
    const path = join(copy, name);
    writeFileSync(path, change(readFileSync(path)));
    const r = verify(copy);
    expect(r.status, name).toBe(1);
    expect(faultsOf(copy).faults, name).not.toHaveLength(0);
    return r.stdout.toString();
  };
  for (const entry of readdirSync(dir, { recursive: true })) {
    if (!statSync(join(dir, entry)).isFile()) continue;
    const said = broken(entry, (b) => ((b[b.length >> 1] ^= 1), b));
    if (!entry.startsWith("tagmanifest")) expect(said).toContain(entry);
  }
  const lines = (change) => (b) => change(b.toString().split("\n")).join("\n");
  expect(
    broken(
      "data/ledger/ledger.jsonl",
      lines((l) => l.toSpliced(3, 1)),
    ),
  ).toContain("data/ledger/ledger.jsonl line 4");
  expect(
    broken(
      "data/ledger/ledger.jsonl",
      lines((l) => l.toSpliced(3, 2, l[4], l[3])),
    ),
  ).toContain("data/ledger/ledger.jsonl line 4");
});

test("the ledger checks, at night too", async () => {
  await page.goto(kase() + "/ledger");
  await page.getByRole("button", { name: "Check it from end to end" }).click();
  await expect(page.getByRole("status")).toContainText("The ledger holds");
  await expect(page.locator(".foot")).toContainText("checked");
  await accessible(page);
  await page.getByRole("button", { name: "day/night" }).click();
  for (const at of ["", "/intake", "/acquire", "/verify", "/recover", "/examine?marked=1", "/report", "/ledger"]) {
    await page.goto(kase() + at);
    await accessible(page, "color-contrast"); // all that the night changes
  }
  await page.goto(kase() + "/examine?from=2026-09-01T00:00:00Z&to=2026-09-24T00:00:00Z");
  await page.locator("tr[data-choose]").nth(5).click();
  await page.goto(kase());
  await page.getByRole("button", { name: "day/night" }).click();
  await shot(page, "board");
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog", { name: "Keys" })).toBeVisible();
  await accessible(page);
});

test("a new case from the empty page, and what is refused", async () => {
  await page.goto(base() + "/cases/new");
  await accessible(page);
  await page.getByLabel("Reference").fill("T/1");
  await page.getByLabel("Title").fill("Second case");
  await page.getByLabel("Kind", { exact: true }).fill("consent");
  await page.getByLabel("Issued by").fill("the owner");
  await page.getByLabel("Number", { exact: true }).fill("none");
  await page.getByLabel("Valid from").fill("2026-09-01");
  await page.getByLabel("Valid to, that day included").fill("2026-12-31");
  await page.getByRole("button", { name: "Open the case" }).click();
  await expect(page.getByRole("alert")).toContainText('the reference "T/1" is not one');
  await expect(page.getByLabel("Title")).toHaveValue("Second case");
  await page.getByLabel("Reference").fill("T-1");
  await page.getByRole("button", { name: "Open the case" }).click();
  await expect(page.getByRole("alert")).toContainText("at least one kind of record");
  await page.getByLabel("Messages").check();
  await page.getByRole("button", { name: "Open the case" }).click();
  await expect(page.getByRole("status")).toContainText("Case T-1 is open");
  for (const stage of ["acquire", "verify", "recover", "examine", "report"]) {
    await page.goto(base() + "/case/T-1/" + stage);
    await accessible(page);
  }
  await page.goto(base() + "/case/none");
  await expect(page.getByRole("heading", { name: "Not found" })).toBeVisible();
  faults.splice(0); // the refusals' own statuses
});
