// Says how much script the first page loads, gzipped: the entry, the page of today, and whatever
// either needs. console/size_test.go holds the limit.
import { readdirSync, readFileSync } from "node:fs";
import { gzipSync } from "node:zlib";

const read = (file) => readFileSync(`dist/assets/${file}`, "utf8");
const page = readFileSync("dist/index.html", "utf8");
const entry = [...page.matchAll(/(?:src|href)="\/assets\/([^"]+\.js)"/g)].map((m) => m[1]);
const today = readdirSync("dist/assets").filter((f) => /^today-.*\.js$/.test(f));
const files = new Set();
const load = (file) => {
  if (!files.has(file)) {
    files.add(file);
    for (const m of read(file).matchAll(/(?:from|import)\s*"\.\/([^"]+\.js)"/g)) {
      load(m[1]);
    }
  }
};
[...entry, ...today].forEach(load);
const size = [...files].reduce((sum, f) => sum + gzipSync(read(f)).length, 0);
console.log(`first page: ${files.size} scripts, ${Math.round(size / 1000)} kB gzipped`);
