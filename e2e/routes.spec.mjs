// From a situation to a route, by single keys.
import { expect, test } from "@playwright/test";
import { accessible, kase, signIn } from "./pages.mjs";

test("a situation is answered by single keys, and overruling the route needs a reason", async ({ page }) => {
  const faults = [];
  page.on("console", (m) => m.type() === "error" && faults.push(m.text()));
  await signIn(page);
  await page.goto(kase() + "/acquire");
  await page.getByRole("link", { name: "from its situation to a route" }).first().click();
  const situation = page.getByRole("region", { name: "Situation" });
  const routes = page.getByRole("region", { name: "Routes" });
  await accessible(page);
  const answer = async (key, words) => {
    const before = await situation.locator(".answer").count();
    await page.keyboard.press(key);
    await expect(situation.locator(".answer")).toHaveCount(before + 1);
    await expect(situation.locator(".answer").last()).toHaveText(words);
  };
  await answer("b", "deleted data too");
  await answer("b", "deleted by hand");
  await answer("b", "longer ago");
  await answer("b", "yes, none from before");
  await answer("c", "no");
  await answer("a", "yes");
  await answer("b", "no"); // the screen cannot be read
  await expect(situation).not.toContainText("Does touch work?");
  await expect(routes.locator("li").filter({ hasText: "Files of the connected handset" })).toContainText(
    "Blocked: the screen cannot be read to approve this computer",
  );
  await answer("c", "no");
  await answer("a", "yes");
  await answer("b", "no");
  await expect(routes.locator(".proposed")).toContainText("Storage in service mode");
  await expect(page).toHaveURL(/model=certain/);
  await page.goBack();
  await expect(routes.locator(".proposed")).toHaveCount(1);
  await page.goForward();
  await accessible(page);
  await page.getByRole("radio", { name: "Local backup" }).check();
  await page.getByRole("button", { name: "Take this route" }).click();
  await expect(page.getByRole("alert")).toContainText("is not what the rules propose: write why it is taken");
  faults.splice(0); // the refusal's own status
  await page.getByRole("radio", { name: "Local backup" }).check();
  await page.getByLabel("Why another route").fill("the service bench is booked until Friday");
  await page.getByRole("button", { name: "Take this route" }).click();
  await expect(page.getByRole("status")).toContainText("The route for 014-A is recorded: Local backup");
  await expect(page.locator("main")).toContainText("the service bench is booked until Friday");
  await page.goto(kase() + "/acquire/route?exhibit=014-A&power=perhaps");
  await expect(page.getByRole("heading", { name: "Not found" })).toBeVisible();
  faults.splice(0);
});
