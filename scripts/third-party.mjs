// Writes THIRD-PARTY.md: what is inside the binary, from Cargo.lock and
// console/package-lock.json, and under which licence. With --check it says
// where the file differs and fails.

import { execFileSync } from 'node:child_process'
import { existsSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

const root = new URL('..', import.meta.url).pathname
const file = join(root, 'THIRD-PARTY.md')

// The packages that the released binary is linked with, build tools left out.
function crates() {
  const text = execFileSync('cargo', ['metadata', '--format-version', '1', '--locked', '--filter-platform', 'x86_64-unknown-linux-gnu'], {
    cwd: root,
    maxBuffer: 1 << 28,
  })
  const metadata = JSON.parse(text)
  const packages = new Map(metadata.packages.map((one) => [one.id, one]))
  const nodes = new Map(metadata.resolve.nodes.map((node) => [node.id, node]))
  const start = metadata.packages.find((one) => one.name === 'dispatcher-cli').id
  const seen = new Set([start])
  const queue = [start]
  while (queue.length > 0) {
    for (const dependency of nodes.get(queue.pop()).deps) {
      if (dependency.dep_kinds.some((kind) => kind.kind === null) && !seen.has(dependency.pkg)) {
        seen.add(dependency.pkg)
        queue.push(dependency.pkg)
      }
    }
  }
  return [...seen].map((id) => packages.get(id)).filter((one) => one.source !== null)
}

// The packages that the console's files are built from.
function modules() {
  const lock = JSON.parse(readFileSync(join(root, 'console/package-lock.json'), 'utf8'))
  return Object.entries(lock.packages)
    .filter(([path, entry]) => path !== '' && !entry.dev && !entry.optional)
    .map(([path, entry]) => {
      const own = join(root, 'console', path, 'package.json')
      const told = existsSync(own) ? JSON.parse(readFileSync(own, 'utf8')) : {}
      return { name: path.replace(/^.*node_modules\//, ''), version: entry.version, license: entry.license ?? told.license }
    })
}

function table(rows) {
  const lines = rows
    .map(({ name, version, license }) => `| ${name} | ${version} | ${(license ?? 'unknown').replaceAll('/', ' OR ')} |`)
    .sort((a, b) => (a.toLowerCase() < b.toLowerCase() ? -1 : 1))
  return ['| package | version | licence |', '|---|---|---|', ...new Set(lines)].join('\n')
}

const text = `# Third-party software

Made by \`scripts/third-party.mjs\` from the lock files; \`make lint\` fails where it is out of date.

Three things need more than a notice:

- **mp3lame-sys** contains the LAME encoder, under the LGPL (2.0 or later), and links it into the binary. Who passes the binary on also offers what is needed to
  link it with another version of that library: this source and \`cargo build --release\`.
- **symphonia** and its parts are under the MPL 2.0: changes to their files stay under it. None is changed here.
- The console contains the fonts and icons of the packages named below, under their own licences.

The other licences ask for their copyright notice, which each package has in its source.

## In the binary

${table(crates())}

## In the console

${table(modules())}
`

if (process.argv.includes('--check')) {
  const now = existsSync(file) ? readFileSync(file, 'utf8') : ''
  if (now !== text) {
    console.error('THIRD-PARTY.md is out of date; run: node scripts/third-party.mjs')
    process.exit(1)
  }
} else {
  writeFileSync(file, text)
}
