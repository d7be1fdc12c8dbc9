// Lays templates out: one element a line where that changes nothing, blocks indented, lines of 120 characters at most where
// they can be broken. With --check it only names those that are not.
import beautify from "js-beautify";
import { readFileSync, writeFileSync } from "node:fs";

const options = {
  indent_size: 2,
  wrap_line_length: 120,
  templating: ["handlebars"],
  indent_handlebars: true,
  end_with_newline: true,
  max_preserve_newlines: 2,
  extra_liners: [],
};

const action = /\{\{(-? *)(if|with|range|define|block|else|end)\b((?:[^"`}]|"(?:[^"\\]|\\.)*"|`[^`]*`)*)\}\}/g;

// What trims space at the left of an action stands behind its name meanwhile: the formatter takes what follows the braces for
// the name.
const kept = (m) => (m[1] ? " \u0001" : "");

// mark writes a block that begins a line and ends one as the formatter knows blocks, and the parts of others as it knows none.
function mark(text) {
  const open = [],
    edits = [];
  const alone = (m, n) => {
    const before = text.slice(text.lastIndexOf("\n", m.index) + 1, m.index),
      at = n.index + n[0].length,
      line = text.indexOf("\n", at);
    return (
      /^(\s|\{\{-? *define[^}]*\}\})*$/.test(before) && /^(\s|\{\{-? *end *-?\}\})*$/.test(text.slice(at, line < 0 ? undefined : line))
    );
  };
  for (const m of text.matchAll(action)) {
    if (m[2] === "else") open.at(-1).others.push(m);
    else if (m[2] !== "end") open.push({ m, others: [] });
    else {
      const { m: from, others } = open.pop();
      if (alone(from, m)) {
        edits.push([from.index, from[0], `{{#${from[2]}${kept(from)}${from[3]}}}`], [m.index, m[0], `{{/${from[2]}${kept(m)}${m[3]}}}`]);
      } else for (const e of others) edits.push([e.index, e[0], e[0].replace("else", "e_lse")]);
    }
  }
  for (const [at, old, now] of edits.sort((x, y) => y[0] - x[0])) text = text.slice(0, at) + now + text.slice(at + old.length);
  return text;
}

const back = (text) =>
  text
    .replace(/\{\{#(\w+) \u0001/g, "{{- $1")
    .replace(/\{\{#/g, "{{")
    .replace(/\{\{\/\w+ \u0001/g, "{{- end")
    .replace(/\{\{\/\w+/g, "{{end")
    .replace(/\{\{(-? *)e_lse/g, "{{$1else");

// What is shown with its space is left as it is, and what is of another language.
const preformatted = /<(pre|textarea|style|script)\b[^>]*>[^]*?<\/\1>/g;
function layOut(text) {
  const pres = [];
  const held = text.replace(preformatted, (pre) => `<pre>${"\u0002".repeat(pres.push(pre))}\u0003</pre>`);
  return back(beautify.html(mark(held), options)).replace(/<pre>(\u0002+)\u0003<\/pre>/g, (_, n) => pres[n.length - 1]);
}

const check = process.argv[2] === "--check";
const bare = (text) => text.replace(/\s/g, "");
for (const file of process.argv.slice(check ? 3 : 2)) {
  const text = readFileSync(file, "utf8");
  let out = text;
  // What is broken at one place may let another be laid out.
  for (let i = 0; i < 5; i++) {
    const again = layOut(out);
    if (again === out) break;
    out = again;
  }
  const actions = (t) => (t.match(/\{\{[^]*?\}\}/g) || []).map(bare).join("\n");
  const same =
    bare(out) === bare(text) && actions(out) === actions(text) && String(out.match(preformatted)) === String(text.match(preformatted));
  if (!same) throw new Error(`${file}: laying it out would change it`);
  if (out === text) continue;
  if (check) {
    console.error(`${file} is not laid out: make fmt`);
    process.exitCode = 1;
  } else writeFileSync(file, out);
}
