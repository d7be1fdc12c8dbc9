// Converts the coastlines of world-atlas (Natural Earth, public domain), a TopoJSON file, to what the map of places draws:
// of each line the number of its points as an unsigned 16-bit number, then of each point longitude and latitude as
// signed 16-bit numbers of 1/182 degree, big-endian.
import { readFileSync, writeFileSync } from "node:fs";

const [, , from, to] = process.argv;
const { arcs, transform } = JSON.parse(readFileSync(from, "utf8"));
const out = [];
for (const arc of arcs) {
  let x = 0,
    y = 0,
    last = "";
  const points = [];
  for (const [dx, dy] of arc) {
    x += dx;
    y += dy;
    const lon = Math.round(182 * (x * transform.scale[0] + transform.translate[0]));
    const lat = Math.round(182 * (y * transform.scale[1] + transform.translate[1]));
    if (`${lon} ${lat}` !== last) points.push([lon, lat]);
    last = `${lon} ${lat}`;
  }
  const b = Buffer.alloc(2 + 4 * points.length);
  b.writeUInt16BE(points.length, 0);
  points.forEach(([lon, lat], i) => {
    b.writeInt16BE(lon, 2 + 4 * i);
    b.writeInt16BE(lat, 4 + 4 * i);
  });
  out.push(b);
}
writeFileSync(to, Buffer.concat(out));
