// Builds ../assets: one stylesheet, the fonts it names, the scripts. Run `npm run build` and commit the result.
import { copyFileSync, mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import * as sass from "sass";

const here = dirname(fileURLToPath(import.meta.url));
const out = join(here, "..", "assets");
const modules = join(here, "node_modules");

rmSync(out, { recursive: true, force: true });
mkdirSync(join(out, "fonts"), { recursive: true });

const { css } = sass.compile(join(here, "style.scss"), {
  style: "compressed",
  loadPaths: [modules],
  quietDeps: true,
  silenceDeprecations: ["import", "global-builtin", "color-functions", "if-function"],
});
writeFileSync(join(out, "style.css"), css + "\n");

for (const [family, weights] of [["source-sans-3", [400, 600]], ["source-serif-4", [400, 600]]]) {
  for (const weight of weights) {
    for (const subset of ["latin", "latin-ext"]) {
      const file = `${family}-${subset}-${weight}-normal.woff2`;
      copyFileSync(join(modules, "@fontsource", family, "files", file), join(out, "fonts", file));
    }
  }
}

copyFileSync(join(modules, "htmx.org", "dist", "htmx.min.js"), join(out, "htmx.min.js"));
copyFileSync(join(modules, "idiomorph", "dist", "idiomorph-ext.min.js"), join(out, "idiomorph.min.js"));
// Without the source-map line, which would point at a file that is not shipped.
const bootstrap = readFileSync(join(modules, "bootstrap", "dist", "js", "bootstrap.bundle.min.js"), "utf8");
writeFileSync(join(out, "bootstrap.min.js"), bootstrap.replace(/\n\/\/# sourceMappingURL=.*\n?$/, "\n"));
for (const file of ["desk.js", "mark.svg"]) copyFileSync(join(here, file), join(out, file));
