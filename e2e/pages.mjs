// What the tests share: signing in, the check of a page, pictures for the docs.
import AxeBuilder from "@axe-core/playwright";
import { expect } from "@playwright/test";
import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

export const base = () => process.env.CROSSWIND_BASE;
export const kase = () => base() + "/case/SAL-26-014";

export async function signIn(page, name = "examiner", password = "salt-and-brass") {
  await page.goto(base() + "/sign-in");
  await page.getByLabel("Sign-in").fill(name);
  await page.getByLabel("Password").fill(password);
  await page.getByRole("button", { name: "Sign in" }).click();
  await expect(page.getByRole("heading", { name: "Case register" })).toBeVisible();
}

// No serious fault by WCAG 2.2 AA, as axe finds them; of some rules only, if they are named. And nothing lies over a control.
export async function accessible(page, ...rules) {
  const put = await page.evaluateHandle(() => {
    // A row that is scrolled half under the head of its table is not what a target's size is about.
    document.querySelectorAll(".list").forEach((list) => list.scrollTo(0, 0));
    // What there is many times over is as its first dozen is. The others are away meanwhile: axe takes seconds for thousands.
    const away = [];
    for (const parent of document.querySelectorAll("body *")) {
      if (parent.childElementCount <= 40) continue;
      const like = new Map();
      for (const child of parent.children) {
        const key = child.tagName + " " + child.getAttribute("class");
        like.set(key, [...(like.get(key) ?? []), child]);
      }
      for (const many of like.values()) if (many.length > 40) away.push(...many.slice(12));
    }
    return away.map((gone) => {
      const here = document.createComment("");
      gone.replaceWith(here);
      return [here, gone];
    });
  });
  const axe = new AxeBuilder({ page }).options({ resultTypes: ["violations"] }).setLegacyMode(); // no page has frames
  const found = await (
    rules.length ? axe.withRules(rules) : axe.withTags(["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"])
  ).analyze();
  await put.evaluate((all) => all.reverse().forEach(([here, gone]) => here.replaceWith(gone)));
  const serious = found.violations.filter((v) => ["serious", "critical"].includes(v.impact));
  expect(
    serious.map(
      (v) =>
        `${v.id}: ${v.nodes
          .map((n) => n.target.join(" "))
          .slice(0, 4)
          .join(", ")}`,
    ),
  ).toEqual([]);
  expect(await covered(page)).toEqual([]);
}

// The controls in sight that the pointer does not reach, since something else lies over them once it is there; all but marks of a
// drawing, which lie over one another where their moments or places do.
const covered = (page) =>
  page.evaluate(() => {
    const found = [];
    for (const control of document.querySelectorAll("a, button, summary, select, textarea, input:not([type=hidden]), [data-choose]")) {
      const drawn = control.matches("svg a") ? control.firstElementChild : control;
      const box = drawn.getClientRects()[0];
      if (!box || !drawn.checkVisibility({ opacityProperty: true, visibilityProperty: true })) continue;
      const at = { clientX: box.x + box.width / 2, clientY: box.y + box.height / 2, bubbles: true };
      const isIn = (b) => at.clientX > b.left && at.clientX < b.right && at.clientY > b.top && at.clientY < b.bottom;
      let around = drawn.parentElement;
      while (around && (getComputedStyle(around).overflow === "visible" || isIn(around.getBoundingClientRect())))
        around = around.parentElement;
      if (around || !isIn({ left: 0, top: 0, right: innerWidth, bottom: innerHeight })) continue; // scrolled away
      document.elementFromPoint(at.clientX, at.clientY)?.dispatchEvent(new PointerEvent("pointermove", at));
      const over = document.elementFromPoint(at.clientX, at.clientY);
      if (control.contains(over) || over?.closest("label, [data-choose]")?.contains(control)) continue;
      const dialog = over?.closest("dialog, [role=dialog]"); // which is meant to
      if (dialog && !dialog.contains(control)) continue;
      let head = over;
      while (head && getComputedStyle(head).position !== "sticky") head = head.parentElement;
      if (head && !head.contains(control)) continue; // scrolled away under it
      if (control.matches("svg a") && over?.closest("svg a")) continue;
      found.push(`${control.outerHTML.slice(0, 120)} lies under ${over?.outerHTML.slice(0, 80)}`.replace(/\s+/g, " "));
    }
    return found;
  });

// The package of a case, made on its report page: where it was saved.
export async function packaged(page, at, button = "Make the package") {
  await page.goto(at + "/report");
  const links = page.getByRole("link", { name: /^[A-Z0-9-]+.*\.zip$/ }); // the newest first
  const before = await links.count();
  await page.getByRole("button", { name: button }).click();
  await expect(links).toHaveCount(before + 1);
  const download = page.waitForEvent("download");
  await links.first().click();
  const d = await download;
  const path = join(mkdtempSync(join(tmpdir(), "crosswind-package-")), d.suggestedFilename());
  await d.saveAs(path);
  return path;
}

// With SHOTS=1 the pictures in docs/screenshots are made anew.
export async function shot(page, name) {
  if (process.env.SHOTS) await page.screenshot({ path: `docs/screenshots/${name}.png` });
}
