// A second verifier of case packages, in another language, from docs/formats.md alone: what it finds is compared with what
// crosswind verify finds.
import { createHash, createPublicKey, verify as verifySignature } from "node:crypto";
import { readdirSync, readFileSync, statSync } from "node:fs";
import { basename, join } from "node:path";

const hash = (algorithm, ...parts) => parts.reduce((h, p) => h.update(p), createHash(algorithm)).digest("hex");
const sha256 = (...parts) => hash("sha256", ...parts);

// canonical writes JSON by RFC 8785, whose numbers and strings are those of ECMAScript.
function canonical(x) {
  if (Array.isArray(x)) return "[" + x.map(canonical).join(",") + "]";
  if (x === null || typeof x !== "object") return JSON.stringify(x);
  const names = Object.keys(x).sort(); // by UTF-16 code units
  return "{" + names.map((n) => JSON.stringify(n) + ":" + canonical(x[n])).join(",") + "}";
}

// signed says whether an object's sig is Ed25519 (RFC 8032) over its canonical form without it.
function signed(object) {
  const { sig, ...rest } = object;
  const der = Buffer.concat([Buffer.from("302a300506032b6570032100", "hex"), Buffer.from(object.key, "hex")]);
  const key = createPublicKey({ key: der, format: "der", type: "spki" });
  return verifySignature(null, Buffer.from(canonical(rest)), key, Buffer.from(sig, "hex"));
}

// root is the Merkle tree hash of RFC 6962 section 2.1, hex.
function root(leaves) {
  const tree = (list) => {
    if (list.length === 1)
      return createHash("sha256")
        .update(Buffer.from([0]))
        .update(list[0])
        .digest();
    let k = 1;
    while (k * 2 < list.length) k *= 2;
    const sides = [tree(list.slice(0, k)), tree(list.slice(k))];
    return createHash("sha256")
      .update(Buffer.from([1]))
      .update(sides[0])
      .update(sides[1])
      .digest();
  };
  return leaves.length ? tree(leaves).toString("hex") : sha256("");
}

const parse = (line) => {
  const object = JSON.parse(line);
  if (canonical(object) !== line) throw new Error("is not canonical JSON");
  return object;
};

// faults gives what does not hold of an unpacked package, each with the file that it is of.
export function faults(dir) {
  const out = [];
  const fault = (where, what) => out.push(where + ": " + what);
  const files = new Map();
  for (const name of readdirSync(dir, { recursive: true })) {
    if (statSync(join(dir, name)).isFile()) files.set(name.replaceAll("\\", "/"), readFileSync(join(dir, name)));
  }
  const attempt = (where, f) => {
    try {
      return f();
    } catch (e) {
      fault(where, e.message);
    }
  };
  const text = (name) => {
    const b = files.get(name);
    if (!b) throw new Error("is not there");
    return b.toString();
  };
  const lines = (name) => {
    const list = text(name).split("\n");
    if (list.pop() !== "") throw new Error("does not end with a line feed");
    return list;
  };
  // RFC 8493: every file below data/ is in both manifests, every other but the tag manifests in both of these.
  for (const [manifest, holds] of [
    ["manifest", (n) => n.startsWith("data/")],
    ["tagmanifest", (n) => !n.startsWith("data/") && !n.startsWith("tagmanifest-")],
  ]) {
    for (const algorithm of ["sha256", "sha512"]) {
      const name = `${manifest}-${algorithm}.txt`;
      attempt(name, () => {
        const there = new Set([...files.keys()].filter(holds));
        for (const line of lines(name)) {
          const [, sum, path] = line.match(/^([0-9a-f]+) [ *](.*)$/) ?? [null, "", line];
          if (!there.delete(path)) fault(path, "a manifest lists it, and it is not there");
          else if (hash(algorithm, files.get(path)) !== sum) fault(path, "does not have the digest that is listed");
        }
        for (const path of there) fault(path, "is in no " + name);
      });
    }
  }
  const seal = attempt("seal.json", () => {
    const object = parse(lines("seal.json")[0]);
    if (!signed(object)) throw new Error("its signature does not hold");
    if (object.bag !== basename(dir).replace(/-broken$/, "")) throw new Error("is of another folder");
    for (const [path, sum] of Object.entries(object.files)) {
      if (!files.has(path) || sha256(files.get(path)) !== sum) fault(path, "is not what was sealed");
    }
    return object;
  });
  // A redacted package has a report, and the head of the ledger alone.
  if (files.has("data/report-redacted.html")) {
    for (const path of files.keys()) {
      const known = /^data\/(report-redacted(\.html|(-[2-9]|-[1-9]\d+)?\.pdf)|ledger\/(head\.json|head\.tsr|authority\.pem))$/;
      if (path.startsWith("data/") && !known.test(path)) fault(path, "does not belong into a redacted package");
    }
    const size = attempt("data/ledger/head.json", () => {
      const object = parse(lines("data/ledger/head.json")[0]);
      if (!signed(object) || object.key !== seal?.key) throw new Error("is not signed with the key of the seal");
      if (object.book !== "case " + seal.case) throw new Error("is of another book");
      return object.size;
    });
    return { faults: out, records: 0, entries: size, key: seal?.key };
  }
  // The ledger: each line names the one before; heads name how far it had come.
  const book = "data/ledger/ledger.jsonl";
  const entries = attempt(book, () => lines(book)) ?? [];
  let before = "0".repeat(64);
  let at = "";
  entries.forEach((line, i) => {
    attempt(book + " line " + (i + 1), () => {
      const entry = parse(line);
      if (entry.prev !== before || entry.seq !== i + 1) throw new Error("does not follow the line before");
      if (entry.at < at) throw new Error("is of a time before that of the line before");
      at = entry.at;
    });
    before = sha256(line);
  });
  const head = (where, line, whole) =>
    attempt(where, () => {
      const object = parse(line);
      if (!signed(object) || object.key !== seal?.key) throw new Error("is not signed with the key of the seal");
      if (whole ? object.size !== entries.length : object.size > entries.length) throw new Error("is of another ledger");
      if (object.size && object.last !== sha256(entries[object.size - 1])) throw new Error("names another last line");
      if (object.root !== root(entries.slice(0, object.size))) throw new Error("names another tree");
    });
  attempt("data/ledger/head.json", () => head("data/ledger/head.json", lines("data/ledger/head.json")[0], true));
  attempt("data/ledger/heads.jsonl", () =>
    lines("data/ledger/heads.jsonl").forEach((l, i) => head("data/ledger/heads.jsonl line " + (i + 1), l)),
  );
  // A signed report is the one that the ledger says was signed.
  const wasSigned = new Map();
  for (const line of entries) {
    const { what, detail } = attempt(book, () => parse(line)) ?? {};
    if (what !== "report.signed") continue;
    for (const [ending, sum] of Object.entries({ html: detail.sha256, pdf: detail.pdf_sha256, zip: detail.pdf_sha256 })) {
      wasSigned.set(`data/signed/report-${detail.version}.${ending}`, sum);
    }
  }
  for (const [path, b] of files) {
    if (path.startsWith("data/signed/") && sha256(b) !== wasSigned.get(path)) fault(path, "is not what was signed");
  }
  // The records: the bytes of each are in its file, or by themselves.
  let records = 0;
  attempt("data/records.jsonl", () =>
    lines("data/records.jsonl").forEach((line, i) =>
      attempt("data/records.jsonl line " + (i + 1), () => {
        const record = parse(line);
        records++;
        record.origins.forEach((o, n) => {
          if (record.file_withheld && n > 0) return;
          const path = record.file_withheld ? "data/cells/" + o.digest : "data/files/" + o.sha256;
          const b = files.get(path);
          if (!b) throw new Error(path + " is not there");
          const bytes = record.file_withheld ? b : b.subarray(o.offset, o.offset + o.length);
          if (sha256(bytes) !== o.digest || bytes.length !== o.length) throw new Error("its bytes in " + path + " are others");
        });
      }),
    ),
  );
  return { faults: out, records, entries: entries.length, key: seal?.key };
}
