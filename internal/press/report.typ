// Sets report.json, which lies beside it: every word of it is data, none is markup.
#let d = json("report.json")
#let ink = rgb("#17252D")
#let quiet = rgb("#51626B")
#let rule = rgb("#D9D4C5")
#let below = rgb("#4A3F7A")
#let failed = rgb("#A11D2B")
#let mono = ("Noto Sans Mono",) + d.fonts

#set document(title: d.title, author: d.by, description: d.kind, date: datetime(year: d.date.at(0), month: d.date.at(1), day: d.date.at(2)))
#set page(paper: "a4", margin: (x: 16mm, top: 18mm, bottom: 20mm), footer: context {
  set text(8pt, fill: quiet)
  d.footer
  h(1fr)
  if d.volumes > 1 [volume #d.volume of #d.volumes, ]
  [page #counter(page).display() of #counter(page).final().first()]
})
#set text(cjk-latin-spacing: none, font: d.fonts, size: 9.5pt, fill: ink, lang: "en", fallback: false)
#set par(leading: 0.62em, spacing: 0.9em)
#show title: set text(18pt, weight: "bold")
#show heading.where(level: 1): it => block(above: 20pt, below: 9pt, width: 100%, stroke: (bottom: 0.6pt + ink), inset: (bottom: 3pt), sticky: true, text(13pt, it.body))
#show heading.where(level: 2): it => block(above: 13pt, below: 7pt, sticky: true, text(10.5pt, it.body))

#let span(s) = {
  if s.style == "break" { return linebreak() }
  let words = if s.isolated { "\u{2068}" + s.words + "\u{2069}" } else { s.words }
  if s.style in ("mono", "when", "hash", "size") { text(font: mono, size: 0.86em, words) }
  else if s.style == "quiet" { text(fill: quiet, words) }
  else if s.style == "redacted" { box(fill: ink, inset: (x: 3pt), outset: (y: 2pt), text(size: 0.84em, fill: white, words)) }
  else if s.style == "failed" { text(fill: failed, weight: "bold", words) }
  else { words }
}
#let spans(list) = list.map(span).join()
#let said(lines) = {
  for l in lines {
    let dir = if l.rtl { rtl } else { ltr }
    block(width: 100%, above: 0.55em, below: 0.55em, align(if l.rtl { right } else { left }, text(dir: dir, l.words)))
  }
}
#let facts(list) = block(width: 100%, grid(
  columns: (104pt, 1fr), column-gutter: 10pt, row-gutter: 5pt,
  ..list.map(f => (text(fill: if f.bad { failed } else { quiet }, f.name), spans(f.value))).flatten(),
))
#let picture(p) = block(breakable: false, above: 8pt, below: 9pt, {
  if "fault" in p { text(fill: quiet, p.fault) } else { image(p.file, alt: p.alt, width: p.width * 1mm) }
  block(above: 4pt, text(8.2pt, fill: quiet, spans(p.text)))
})
#let record(r) = block(width: 100%, above: 8pt, below: 8pt, inset: (x: 9pt, y: 8pt), breakable: r.long,
  stroke: if r.below { (paint: below, thickness: 0.6pt, dash: "dashed") } else { 0.6pt + rule }, {
    block(below: 6pt, sticky: true, text(10.5pt, weight: "bold", spans(r.title)))
    block(width: 100%, above: 5pt, below: 9pt, inset: (left: if r.below { 8pt } else { 0pt }),
      stroke: if r.below { (left: 3pt + below) } else { none }, text(11pt, said(r.said)))
    for p in r.pictures { picture(p) }
    facts(r.facts)
  })
#let set-block(b) = {
  if b.kind == "paragraph" { block(width: 100%, spans(b.text)) }
  else if b.kind == "heading" { heading(level: 2, outlined: false, spans(b.text)) }
  else if b.kind == "written" { block(width: 150mm, said(b.said)) }
  else if b.kind == "facts" { facts(b.facts) }
  else if b.kind == "table" {
    set text(8.6pt)
    table(columns: b.widths.map(w => w * 1fr), stroke: none, inset: (left: 0pt, right: 6pt, y: 3.2pt), align: left,
      table.header(..b.head.map(h => text(8pt, fill: quiet, h))),
      table.hline(stroke: 0.5pt + ink),
      ..b.rows.map(row => row.map(spans) + (table.hline(stroke: 0.4pt + rule),)).flatten())
  }
  else if b.kind == "citations" { list(..b.citations.map(spans)) }
  else if b.kind == "record" { record(b) }
  else if b.kind == "timeline" or b.kind == "map" { block(breakable: false, image(b.file, alt: b.alt, width: 100%)) }
  else if b.kind == "picture" { picture(b.picture) }
  else if b.kind == "signature" {
    block(above: 32pt, width: 150mm, grid(columns: (1fr, 1fr), column-gutter: 20pt,
      ..(b.name, b.place).map(w => block(width: 100%, stroke: (top: 0.6pt + ink), inset: (top: 4pt), text(8.6pt, w)))))
  }
}

#text(fill: quiet, d.kind)
#block(above: 7pt, below: 9pt, title())
#text(fill: quiet, spans(d.about))
#block(above: 14pt, below: 14pt, {
  show outline.entry: set block(spacing: 6pt)
  outline(title: none, depth: 1)
})
#for p in d.parts {
  heading(level: 1, p.title)
  for b in p.blocks { set-block(b) }
}
#for a in d.attached { pdf.attach(a.file, relationship: "supplement", mime-type: a.type, description: a.about) }
