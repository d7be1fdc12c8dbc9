// Sources of every sort, in a case of their own: a single archive, archives that
// are handed in, hostile ones too, lists of passwords, known files, schedules.
import { expect, test } from "@playwright/test";
import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, readdirSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { accessible, base, signIn } from "./pages.mjs";

test.describe.configure({ mode: "serial" });

let page;
const faults = [];
const at = (path) => base() + "/case/SRC-1" + path;
const backups = () => join(process.env.CROSSWIND_DIR, "backups");
const bench = mkdtempSync(join(tmpdir(), "crosswind-sources-"));
const sh = (script) => execFileSync("bash", ["-ec", script], { cwd: bench, env: { ...process.env, BACKUPS: backups() } });

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  page.on("console", (m) => m.type() === "error" && faults.push(m.text()));
  page.on("pageerror", (e) => faults.push(e.message));
  await signIn(page);
});
test.afterEach(() => {
  expect(faults.splice(0)).toEqual([]);
});

test("a case with scope, its document and people, from the empty page to the printed label and receipt", async () => {
  await page.goto(base() + "/cases/new");
  for (const [label, value] of Object.entries({
    Reference: "SRC-1",
    Title: "Sources of every sort",
    "People in the case": "The keeper of the galley phone",
    "Issued by": "Harbour court",
    "Valid from": "2026-09-01",
    "Valid to, that day included": "2027-03-01",
    "Records from": "2026-04-01",
    "Privileged people, in words": "a dentist",
    "Numbers and addresses of privileged people, with commas": "+44 1632 960171",
  }))
    await page.getByLabel(label, { exact: true }).fill(value);
  await page.getByLabel("Kind", { exact: true }).fill("order");
  await page.getByLabel("Number", { exact: true }).fill("HC 7");
  for (const kind of ["Messages", "Contacts"]) await page.getByLabel(kind).check();
  await page.getByRole("button", { name: "Open the case" }).click();
  await expect(page.getByRole("status")).toContainText("Case SRC-1 is open");
  await expect(page.getByText("The keeper of the galley phone").first()).toBeVisible();

  writeFileSync(join(bench, "order.pdf"), "%PDF-1.4\n% made up\n");
  await page.getByLabel("PDF, picture or text").setInputFiles(join(bench, "order.pdf"));
  await page.getByRole("button", { name: "Attach" }).click();
  await expect(page.getByRole("status")).toContainText("order.pdf is attached to authority HC 7");
  const got = page.waitForEvent("download");
  await page.getByRole("link", { name: "order.pdf" }).click();
  expect(readFileSync(await (await got).path(), "utf8")).toContain("% made up");

  for (const [id, value] of Object.entries({
    model_mark: "TN-7",
    serial: "TEST-0932-C",
    imei: "004999011223343",
    numbers: "+44 7700 900288",
    packaging: "bag 7, shielded",
    lost_at: "2026-09-12T08:00",
    lost_what: "messages of the evening before",
    seal: "B-300100",
    place: "Front desk",
    from: "The keeper",
    to: "R. Aske",
  }))
    await page.locator("#" + id).fill(value);
  await expect(page.locator("#imei-said")).toHaveText("the check digit is right");
  await accessible(page);
  await page.getByRole("button", { name: "Register the exhibit" }).click();
  const card = page.getByRole("region", { name: "Exhibit 1-A" });
  await expect(card).toContainText("bag 7, shielded");
  await card.getByRole("link", { name: "label" }).click();
  await expect(page.getByRole("img", { name: /exhibit 1-A/ })).toBeVisible();
  expect((await page.pdf()).length).toBeGreaterThan(5000);
  await page.goto(at("/intake"));
  await card.getByRole("link", { name: "receipt" }).click();
  await expect(page.getByText("Received by R. Aske")).toBeVisible();
  expect((await page.pdf()).length).toBeGreaterThan(5000);
});

const archived = (name) => page.locator("section.panel", { hasText: "Archives handed in" }).locator("div", { hasText: name }).last();
const upload = async (file) => {
  await page.goto(at("/acquire"));
  await page.getByLabel(/Upload a tar, ZIP or gzip/).setInputFiles(join(bench, file));
  await page.getByRole("button", { name: "Upload", exact: true }).click();
};

test("archives that try to escape, and bombs, are refused clearly and leave nothing", async () => {
  sh(`echo x >x; tar -cPf escape.tar --transform 's,^x$,../../escaped,' x
      head -c 200M /dev/zero | gzip -9 >bomb.gz; head -c 60M /dev/zero >zeros; zip -q9 bomb.zip zeros
      echo "no archive at all, only words that are long enough" >words.txt`);
  await upload("escape.tar");
  await expect(archived("escape.tar")).toContainText("leads out of the archive: its path goes upwards");
  for (const bomb of ["bomb.gz", "bomb.zip"]) {
    await upload(bomb);
    await expect(archived(bomb)).toContainText("goes beyond the limits");
  }
  await upload("words.txt");
  await expect(page.getByRole("alert")).toContainText("words.txt is neither a backup of a known layout nor a tar, ZIP or gzip archive");
  faults.splice(0); // the refusal's own status
  expect(readdirSync(tmpdir())).not.toContain("escaped");
  await page.goto(at("/ledger"));
  await expect(page.getByRole("row", { name: /archive.refused/ })).toHaveCount(3);
  await page.goto(at("/acquire"));
  await accessible(page);
});

test("a backup within an uploaded archive is found and acquired, and its manifest holds for the files", async () => {
  sh(`tar -czf handed-in.tar.gz -C "$BACKUPS" harbour-phone-2026-08-02`);
  await upload("handed-in.tar.gz");
  await expect(archived("handed-in.tar.gz")).toContainText("unpacked");
  const row = page.getByRole("row", { name: /archive handed-in\.tar\.gz/ });
  await expect(row).toContainText("incomplete: 4 faults");
  await row.getByRole("link", { name: "look inside" }).click();
  await expect(page.getByRole("row", { name: /data\// })).toBeVisible();
  await page.goto(at("/acquire"));
  await row.getByRole("combobox").selectOption("1-A");
  await row.getByRole("button", { name: "Acquire" }).click();
  await expect(page.getByText("1-A acquisition 1").first()).toBeVisible();
  await page.goto(at("/verify"));
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "SHA-256", exact: true }).click();
  const manifest = await (await download).path();
  execFileSync("sha256sum", ["-c", "--strict", "--quiet", manifest], { cwd: join(backups(), "harbour-phone-2026-08-02") });
  await page.getByRole("button", { name: "Check against the source" }).click();
  await expect(page.getByRole("row", { name: /source all \d+ hold/ })).toBeVisible();
});

test("a place is named, and its single archive is acquired; a record leads to bytes of that archive", async () => {
  await page.goto(at("/acquire"));
  const name = async (path) => {
    await page.getByLabel("A folder, backup or archive on this machine").fill(path);
    await page.getByRole("button", { name: "Look there" }).click();
  };
  for (const [path, said] of [
    ["backups", "is not an absolute path"],
    ["/none/such", "no such file"],
    [join(process.env.CROSSWIND_DIR, "data"), "own folder"],
    ["/etc/hostname", "is neither a backup of a known layout"],
  ]) {
    await name(path);
    await expect(page.getByRole("alert")).toContainText(said);
  }
  faults.splice(0); // the refusals' own statuses
  const source = join(bench, "named.stow");
  sh(`cp "$BACKUPS"/galley-phone-2026-09-22.stow named.stow`);
  await name(source);
  const row = page.getByRole("row", { name: /named\.stow/ });
  await expect(row).toContainText("after the loss");
  await expect(page.getByRole("row", { name: /8 Sep 2026/ })).toContainText("before the loss");
  await row.getByRole("button", { name: "Acquire" }).click(); // the exhibit of its serial is chosen already
  await expect(page.getByText("1-A acquisition 2").first()).toBeVisible();
  await page.goto(at("/recover"));
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "1-A acquisition 2" }) });
  await section.getByRole("button", { name: "Full pass" }).click();
  await expect(section.getByRole("row", { name: /wire\.sqlite/ })).toContainText("wire 3");
  await expect(section.getByRole("row", { name: /wire\.sqlite/ })).toContainText("with a privileged person");
  await expect(section.getByRole("row", { name: /bell\.sqlite/ })).toContainText("of a kind not covered");
  await page.goto(at("/examine?q=" + encodeURIComponent("third tile")));
  await page.getByRole("row", { name: /third tile left of the drain/ }).click();
  await expect(page.locator(".said-bubble.chosen")).toContainText("third tile");
  await page.keyboard.press("o");
  const drawer = page.getByRole("dialog", { name: "Origin of the record" });
  await expect(drawer).toContainText("stored as tree/apps/wire/wire.sqlite");
  const text = (await drawer.innerText()).replace(/[\u202f\u00a0]/g, "");
  const from = Number(text.match(/in the archive from byte (\d+)/)[1]);
  const fact = async (n) =>
    parseInt((await drawer.locator(`dt:text-is("${n}") + dd`).innerText()).replace(/[^\x20-\x7e]/g, "").split("=")[0]);
  const b = readFileSync(source);
  const cell = b.subarray(from + (await fact("Offset")), from + (await fact("Offset")) + (await fact("Length")));
  expect(cell.includes("third tile left of the drain. put it back")).toBe(true);
  await page.goto(at("/verify"));
  await page.getByRole("button", { name: "Check again from the vault" }).click();
  await expect(page.getByRole("row", { name: /vault all \d+ hold/ })).toBeVisible();
});

test("a list of candidate passwords opens the encrypted backup, and can be stopped", async () => {
  await page.goto(at("/acquire"));
  const locked = page.getByRole("row", { name: /14 Jun 2026/ });
  await locked.getByRole("combobox").selectOption("1-A");
  await locked.getByRole("button", { name: "Acquire" }).click();
  await expect(page.getByText("1-A acquisition 3").first()).toBeVisible();
  const give = async (list) => {
    await page.goto(at("/recover"));
    await page.getByText("Try a list of candidate passwords").click();
    await page.getByLabel("Candidates, one a line").fill(list.slice(0, 3).join("\n"));
    writeFileSync(join(bench, "candidates.txt"), list.slice(3).join("\r\n"));
    await page.getByLabel("or a file, one a line").setInputFiles(join(bench, "candidates.txt"));
    await page.getByRole("button", { name: "Try them" }).click();
  };
  const many = Array.from({ length: 3000 }, (_, i) => `gannet-${i}`);
  await give(many);
  const run = page.locator("[data-run]", { hasText: "Trying 3000 passwords" });
  await expect(run.locator('[data-part="items"]')).not.toHaveText(/^0 of/);
  await run.getByRole("button", { name: "Stop" }).click();
  await expect(run).toHaveAttribute("data-state", "stopped");
  await give(["gannet", "fulmar"]);
  await expect(page.locator("[data-run]", { hasText: "Trying 2 passwords" })).toContainText("None of the 2 passwords opens the backup");
  await give([...many.slice(0, 5), "cormorant-47", "never tried"]);
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "1-A acquisition 3" }) });
  await expect(section.getByRole("button", { name: "Light pass" })).toBeVisible();
  await page.goto(at("/ledger"));
  await expect(page.getByRole("row", { name: /password.accepted/ })).toContainText("6");
  for (const word of ["cormorant", "gannet"]) expect(await page.locator("main").innerText()).not.toContain(word);
});

test("known files are imported, shown and hidden; checks come round by themselves", async () => {
  sh(
    `(echo '"name","SHA-256"'; cd "$BACKUPS"/harbour-phone-2026-08-02/parcels; sha256sum $(ls | head -5) | sed 's/\\(.*\\)  \\(.*\\)/"\\2","\\1"/') >known.csv`,
  );
  await page.goto(at("/verify?exhibit=1-A"));
  await page.getByRole("link", { name: "1-A acquisition 1" }).click();
  await page.getByLabel("Name of the list").fill("Stock pictures");
  await page.getByLabel(/Text or CSV/).setInputFiles(join(bench, "known.csv"));
  await page.getByRole("button", { name: "Import" }).click();
  await expect(page.getByRole("row", { name: /^Stock pictures/ })).toContainText("SHA-256");
  await page.getByRole("link", { name: "1-A acquisition 1" }).click();
  const known = page.locator('tbody[data-rows="files"] .known');
  await expect(known).toHaveCount(5);
  await page.getByRole("link", { name: "hide known files" }).click();
  await expect(page.getByText("known files are hidden")).toBeVisible();
  await expect(known).toHaveCount(0);
  await page.getByLabel("The whole case every").selectOption("7");
  await page.getByRole("button", { name: "Set" }).click();
  await expect(page.getByText(/The whole case every\s+7 days, next/)).toBeVisible();
  await accessible(page);
  await page.getByRole("link", { name: "1-A acquisition 1" }).click();
  await page.getByRole("button", { name: "end that" }).click();
  await expect(page.getByLabel("The whole case every")).toBeVisible();
});
