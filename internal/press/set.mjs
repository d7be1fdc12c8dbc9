// Sets the report of a folder: set.mjs FOLDER ENGINE STAMP FONTS...
import { createRequire } from "node:module";
import { writeFileSync } from "node:fs";
import { join } from "node:path";

const [folder, engine, stamp, ...fonts] = process.argv.slice(2);
const { NodeCompiler } = createRequire(join(engine, "x.js"))("@myriaddreamin/typst-ts-node-compiler");
const compiler = NodeCompiler.create({ workspace: folder, fontArgs: [{ fontPaths: fonts }] });
const done = compiler.compile({ mainFilePath: join(folder, "report.typ") });
if (!done.result) {
  const why = compiler.fetchDiagnostics(done.takeError());
  console.error(why.map((d) => d.message).join("; "));
  process.exit(1);
}
writeFileSync(join(folder, "report.pdf"), compiler.pdf(done.result, { pdfStandard: "a-3a", creationTimestamp: Number(stamp) }));
console.log(done.result.numOfPages);
