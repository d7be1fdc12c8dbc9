// Connected handsets: the examiner's page and the handset's own screen, driven
// side by side.
import { expect, test } from "@playwright/test";
import { execFileSync, spawnSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { accessible, base, packaged, signIn } from "./pages.mjs";

test.describe.configure({ mode: "serial" });

let page, hand;
const faults = [];
const at = (path) => base() + "/case/HND-1" + path;

test.beforeAll(async ({ browser }) => {
  page = await (await browser.newContext()).newPage();
  hand = await (await browser.newContext()).newPage();
  page.on("console", (m) => m.type() === "error" && faults.push(m.text()));
  page.on("pageerror", (e) => faults.push(e.message));
  await signIn(page);
  await page.goto(base() + "/cases/new");
  for (const [label, value] of Object.entries({
    Reference: "HND-1",
    Title: "Connected handsets",
    "Issued by": "Harbour court",
    "Valid from": "2026-09-01",
    "Valid to, that day included": "2027-03-01",
  }))
    await page.getByLabel(label, { exact: true }).fill(value);
  await page.getByLabel("Kind", { exact: true }).fill("order");
  await page.getByLabel("Number", { exact: true }).fill("HC 9");
  for (const kind of ["Messages", "Calls", "Photographs"]) await page.getByLabel(kind).check();
  await page.getByRole("button", { name: "Open the case" }).click();
  for (const [reference, mark, serial] of [
    ["A", "OL-220", "TEST-0417-A"],
    ["B", "TN-7", "TEST-0932-C"],
    ["C", "TN-7C", "TEST-1177-D"],
    ["D", "TN-5", "TEST-1205-E"],
  ]) {
    if (reference !== "A") await page.getByText("Register an exhibit").click();
    for (const [id, value] of Object.entries({ reference, model_mark: mark, serial, seal: "B-" + reference, place: "Desk", to: "R. Aske" }))
      await page.locator("#" + id).fill(value);
    await page.getByRole("button", { name: "Register the exhibit" }).click();
    await expect(page.getByRole("status")).toContainText(`Exhibit ${reference} is registered`);
  }
});
test.afterEach(() => {
  expect(faults.splice(0)).toEqual([]);
});

const steps = () => page.getByRole("region", { name: "Steps" });
const done = (name) => expect(steps().locator("li.done", { hasText: name })).toBeVisible();
const check = async (mark, said = steps().locator("li.done", { hasText: "exact model mark" })) => {
  await page.getByLabel("As printed on the exhibit").fill(mark);
  await page.getByRole("button", { name: "Check" }).click();
  await expect(said).toBeVisible();
};
const screen = (name) => hand.goto(process.env["CROSSWIND_" + name]);
const open = async (exhibit, row) => {
  await page.goto(at("/acquire"));
  const line = page.locator("#part-handsets").getByRole("row", { name: row });
  await line.getByRole("combobox").focus(); // what is being chosen is not replaced
  await line.getByRole("combobox").selectOption(exhibit);
  await line.getByRole("button", { name: "Read it" }).click();
};

for (const [exhibit, name, row, code, app] of [
  ["A", "HARBOUR", /Harbour phone/, "4417", "talk.db"],
  ["B", "GALLEY", /Galley phone/, "0932", "wire.sqlite"],
])
  test(`the files of the ${name.toLowerCase()} phone: approve, code, radios, and what scope allows`, async () => {
    await open(exhibit, row);
    await done("model is the exhibit's");
    await accessible(page);
    await page.getByRole("button", { name: "Ask on the handset" }).click();
    await screen(name);
    await expect(hand.getByRole("alert")).toContainText("May it read this handset?");
    await hand.getByRole("button", { name: "Allow", exact: true }).click();
    await done("computer approved");
    await hand.getByLabel("Code").fill("0000");
    await hand.getByRole("button", { name: "Unlock" }).click();
    await expect(hand.locator("aside")).toContainText("wrong code");
    await hand.getByLabel("Code").fill(code);
    await hand.getByRole("button", { name: "Unlock" }).click();
    await done("unlocked");
    const read = page.getByRole("button", { name: "Read the files" });
    await expect(read).toBeVisible();
    await expect(page.getByRole("checkbox", { name: "Messages" })).toBeChecked();
    await expect(page.getByRole("checkbox", { name: "Contacts" })).toBeDisabled();
    if (exhibit === "A") {
      // A low battery, and radios that are on.
      await hand.getByRole("textbox", { name: "Battery" }).fill("4");
      await hand.getByLabel("Battery").locator("xpath=ancestor::form").getByRole("button").click();
      await expect(steps()).toContainText("Its battery has 4 % left");
      await expect(read).toHaveCount(0);
      await hand.getByLabel("Battery").fill("60");
      await hand.getByLabel("Battery").locator("xpath=ancestor::form").getByRole("button").click();
      await read.click();
      await expect(page.getByRole("alert")).toContainText("its radios are on");
      faults.splice(0); // the refusal's own status
      await page.getByLabel("Its radios are on. Why is it read all the same?").fill("the shielded box is in use");
    } else {
      await hand.getByRole("button", { name: "Switch radios off" }).click();
      await done("radios off");
    }
    await accessible(page);
    await read.click();
    await expect(page.getByText(`${exhibit} acquisition 1`).first()).toBeVisible();
    await page.goto(at(`/verify?exhibit=${exhibit}`));
    await expect(page.getByRole("row", { name: new RegExp(app) }).first()).toBeVisible();
    await expect(page.locator('tbody[data-rows="files"]')).not.toContainText(".png"); // not chosen
    await page.goto(at(`/recover?exhibit=${exhibit}`));
    await page.getByRole("button", { name: "Light pass" }).click();
    await expect(page.getByRole("row", { name: new RegExp(app) })).toContainText("free");
    await page.goto(at("/ledger"));
    await expect(page.getByRole("row", { name: /handset\.step.*unlocked/ }).first()).toBeVisible();
    await page.goto(at("/intake?exhibit=" + exhibit));
    await page.getByText(/Seen while it was connected/).click();
    await expect(page.getByRole("row", { name: /unlocked on the handset/ })).toContainText("Z");
  });

for (const [exhibit, row, password] of [
  ["A", /Harbour phone/, ""],
  ["B", /Galley phone/, "gannet-and-gale"],
])
  test(`exhibit ${exhibit} makes a backup of itself, ${password ? "encrypted" : "plain"}, which is acquired`, async () => {
    await open(exhibit, row);
    await page.getByLabel("Password to encrypt it with").fill(password);
    await page.getByLabel("The same again").fill(password + "x");
    await page.getByRole("button", { name: "Make a backup" }).click();
    await expect(page.getByRole("alert")).toContainText("the two passwords differ");
    faults.splice(0); // the refusal's own status
    await page.getByLabel("Password to encrypt it with").fill(password);
    await page.getByLabel("The same again").fill(password);
    if (exhibit === "A") {
      await page.getByRole("button", { name: "Make a backup" }).click();
      await expect(page.getByRole("alert")).toContainText("its radios are on");
      faults.splice(0);
      await page.getByLabel("Why is the backup made all the same?").fill("the shielded box is in use");
    }
    await page.getByRole("button", { name: "Make a backup" }).click();
    const serial = exhibit === "A" ? "TEST-0417-A" : "TEST-0932-C";
    const made = page.getByRole("row", { name: new RegExp("made-" + serial) });
    await expect(async () => {
      await page.goto(at("/acquire?exhibit=" + exhibit));
      await expect(made).toContainText(password ? "encrypted" : "whole", { timeout: 500 });
    }).toPass({ timeout: 600_000 });
    await made.getByRole("button", { name: "Acquire" }).click();
    await expect(page.getByText(`${exhibit} acquisition 2`).first()).toBeVisible();
    if (!password) return;
    await page.goto(at("/recover?exhibit=" + exhibit));
    await page.getByLabel("Password of the backup").fill(password);
    await page.getByRole("button", { name: "Unlock" }).click();
    const section = page.locator("section.panel", { has: page.getByRole("heading", { name: `${exhibit} acquisition 2` }) });
    await section.getByRole("button", { name: "Light pass" }).click();
    await expect(section.getByRole("row", { name: /wire\.sqlite/ })).toContainText("wire 3");
  });

const hold = async (name, ms) => {
  await screen(name);
  const keys = hand.locator("#keys");
  const box = await keys.boundingBox();
  await hand.mouse.move(box.x + box.width / 2, box.y + box.height / 2);
  await hand.mouse.down();
  await hand.waitForTimeout(ms);
  await Promise.all([hand.waitForEvent("load"), hand.mouse.up()]); // the screen is loaded anew then, and would be so behind what follows
};

test("a dead screen: the wrong model first, then the exact mark, the keys, and every block", async () => {
  await open("C", /Locker phone/);
  await expect(page).toHaveURL(/by=storage/);
  await check("TN-7", steps().filter({ hasText: "TN-7 is not the mark of exhibit C. Nothing was sent to the handset." }));
  await check("TN-7C");
  await expect(steps()).toContainText("Hold volume down and power on the handset for 4 seconds");
  await page.getByRole("heading", { name: "What is to be done" }).click(); // nothing is being typed
  await hold("LOCKER", 1000);
  await expect(hand.locator("#is")).toContainText("let go too early");
  await hold("LOCKER", 4300);
  await done("service mode, read-only");
  await expect(page.getByRole("row", { name: /data ext4/ })).toBeVisible();
  await expect(page.getByRole("row", { name: /card FAT32/ })).toBeVisible();
  await accessible(page);
  await hand.locator("label", { hasText: "Read errors on" }).locator("xpath=ancestor::form").getByRole("button").click();
  await page.getByRole("button", { name: "Read the storage" }).click();
  await expect(page.getByText("C acquisition 1").first()).toBeVisible();
  await page
    .getByText("1 things that the source says")
    .or(page.getByText(/things that the source/))
    .first()
    .click();
  await expect(page.locator("main")).toContainText("bytes 1048576 to 1049087 could not be read; zeros stand in their place");
  await page.goto(at("/verify?exhibit=C"));
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "their list" }).click();
  expect(readFileSync(await (await download).path(), "utf8")).toBe("data.img\t1048576\t1049087\n");
  // What the images hold: to a photograph that is known by its structure alone, on the map, and back.
  await page.goto(at("/recover?exhibit=C"));
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "C acquisition 1" }) });
  await section.getByRole("button", { name: "Full pass" }).click();
  await expect(section.getByRole("row", { name: /photographs/ })).toContainText("in a lost file");
  await page.getByRole("link", { name: "card.img" }).click();
  await expect(page.getByRole("group", { name: /places of the image/ })).toBeVisible();
  await accessible(page);
  await page.locator("rect.use.carved").first().click();
  const carved = page.locator(".storage-file", { hasText: "carved/jpeg at" });
  await expect(carved).toContainText("every code of its pictures holds to the last");
  await carved.getByRole("link", { name: "a record that was read from it" }).click();
  const drawer = page.getByRole("dialog", { name: "Origin of the record" });
  await expect(drawer).toContainText("the vault's bytes, read again now, have it");
  await expect(drawer).toContainText("FF D8 FF");
  const opened = page.url();
  await proved("carved from the storage of the dead handset");
  await page.goto(opened);
  await drawer.getByRole("link", { name: "on the map of the image" }).click();
  await expect(page.getByRole("heading", { name: /^Byte 0x/ })).toBeVisible();
  await expect(page.locator("main")).toContainText("Bytes are withheld: "); // what else lies there is not of a kind that is covered
});

// proved marks the photograph of the drawer: the package has its whole file, and verifies.
const proved = async (reason) => {
  const sum = await page
    .locator(".drawer dt", { hasText: "Its SHA-256" })
    .locator("xpath=following-sibling::dd[1]")
    .locator("[data-digest]")
    .getAttribute("data-digest");
  await page.keyboard.press("Escape");
  await page.locator("#mark-reason").fill(reason);
  await page.getByRole("button", { name: "Mark", exact: true }).click();
  await expect(page.getByRole("button", { name: "Unmark" })).toBeVisible();
  const path = await packaged(page, at(""));
  expect(execFileSync("unzip", ["-l", path]).toString()).toMatch(new RegExp("data/(cells|files)/" + sum));
  const r = spawnSync("bin/crosswind", ["verify", path], { env: {} });
  expect(r.stdout.toString()).toContain("holds: case HND-1");
  expect(r.status).toBe(0);
};

test("a memory card: its image, what was deleted and carved, and the package", async () => {
  await page.goto(at("/intake"));
  await page.getByText("Register an exhibit").click();
  await page.locator("#kind").selectOption("memory card");
  for (const [id, value] of Object.entries({
    reference: "M",
    model_mark: "32 GB",
    serial: "TEST-3301-M",
    seal: "B-M",
    place: "Desk",
    to: "R. Aske",
  }))
    await page.locator("#" + id).fill(value);
  await page.getByRole("button", { name: "Register the exhibit" }).click();
  await expect(page.getByRole("status")).toContainText("Exhibit M is registered");
  await page.goto(at("/acquire?exhibit=M"));
  const image = page.getByRole("row", { name: /memory-card-of-the-locker-phone\.img/ });
  await expect(image).toContainText("FAT32");
  await image.getByRole("combobox").selectOption("M");
  await image.getByRole("button", { name: "Acquire" }).click();
  await expect(page.getByText("M acquisition 1").first()).toBeVisible();
  await page.goto(at("/recover?exhibit=M"));
  const section = page.locator("section.panel", { has: page.getByRole("heading", { name: "M acquisition 1" }) });
  await section.getByRole("button", { name: "Full pass" }).click();
  await expect(section.getByRole("row", { name: /photographs/ })).toContainText("in a lost file");
  // By its address: the page is looked at again as the reading ends, and the link that is pressed may be replaced meanwhile.
  await page.goto(await section.getByRole("link", { name: /\.img$/ }).evaluate((a) => a.href));
  await page.locator("rect.use.carved").first().click();
  await page
    .locator(".storage-file", { hasText: "carved/jpeg at" })
    .first()
    .getByRole("link", { name: "a record that was read from it" })
    .click();
  await expect(page.getByRole("dialog", { name: "Origin of the record" })).toContainText("FF D8 FF");
  await proved("carved from the card");
});

test("a handset that restarts again and again, and a mark that its stand-in refuses", async () => {
  await open("D", /restarts again and again/);
  await check("TN-5");
  await hold("PILOT", 3300);
  await done("service mode, read-only");
  // Not for another exhibit, and of files no kind that is not covered, by no form.
  const post = async (path, form) => (await page.request.post(at(path), { form })).text();
  expect(await post("/acquire/handset?exhibit=C&at=4&by=storage", {})).toContain("what is in service mode is TN-5, and exhibit C is TN-7C");
  expect(await post("/acquire/handset?exhibit=B&at=2", { kinds: "contact" })).toContain(
    "is not a kind of record that an authority of the case covers",
  );
  await page.getByRole("button", { name: "Read the storage" }).click();
  await expect(page.getByText("D acquisition 1").first()).toBeVisible();
  // The exhibit of another mark does not open it.
  const wrong = await page.request.post(process.env.CROSSWIND_HARBOUR + "/service/enter", { data: { mark: "TN-7" } });
  expect(wrong.status()).toBe(403);
});

test("a cable that is pulled in the middle, and a run that goes on", async () => {
  await screen("GALLEY");
  await open("B", /Galley phone/);
  await page.getByRole("checkbox", { name: /all other files/ }).check();
  await hand.getByLabel(/^Pull it after/).fill("1500000");
  await hand
    .getByLabel(/^Pull it after/)
    .locator("xpath=ancestor::form")
    .getByRole("button")
    .click();
  await page.getByRole("button", { name: "Read the files" }).click();
  const run = page.locator('[data-state="failed"]').first();
  await expect(run).toContainText("does not answer: is the cable in?");
  await hand.reload();
  await hand.getByRole("button", { name: "Put the cable in" }).click();
  await run.getByRole("button", { name: "Resume" }).click();
  await expect(page.getByText("B acquisition 3").first()).toBeVisible();
});
