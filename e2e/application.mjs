// Starts the real application with its demo, on a database of its own, and
// ends it after the tests. Its runs read at a bounded rate, so that there is
// time to pause one on a fast machine too.
import { execFileSync, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

export default async function start() {
  const admin = process.env.CROSSWIND_TEST_DATABASE;
  if (!admin) throw new Error("CROSSWIND_TEST_DATABASE is not set: make test sets it");
  const name = `e2e_${process.pid}`;
  const sql = (q) => execFileSync("psql", [admin, "-qc", q]);
  sql(`CREATE DATABASE ${name}`);
  const url = new URL(admin);
  url.pathname = "/" + name;
  const dir = mkdtempSync(join(tmpdir(), "crosswind-e2e-"));
  const app = spawn("bin/crosswind", ["demo", "--dir", dir, "--listen", "127.0.0.1:0", "--recordings", "10", "--rate", "60"], {
    env: { ...process.env, CROSSWIND_DATABASE: url.href },
    stdio: ["ignore", "pipe", "inherit"],
  });
  process.env.CROSSWIND_DIR = dir;
  const said = await new Promise((resolve, reject) => {
    let said = "";
    app.stdout.on("data", (d) => {
      said += d;
      if (/Pilot phone.*\n/.test(said)) resolve(said); // the last line that it prints
    });
    app.on("exit", () => reject(new Error("the application ended: " + said)));
  });
  process.env.CROSSWIND_BASE = said.match(/http:\S+/)[0];
  // The handsets' own screens, by the first word of their names.
  for (const [, name, at] of said.matchAll(/^  (\w+) phone.*(http:\S+)/gm)) process.env["CROSSWIND_" + name.toUpperCase()] = at;
  process.env.CROSSWIND_CLOUD = said.match(/^  (http:\S+)/m)[1]; // the account's owner's
  return async () => {
    app.kill();
    await new Promise((done) => (app.exitCode === null ? app.on("exit", done) : done()));
    sql(`DROP DATABASE ${name} WITH (FORCE)`);
    rmSync(dir, { recursive: true, force: true });
  };
}
