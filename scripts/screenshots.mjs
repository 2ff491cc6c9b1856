// Takes the pictures in docs/screenshots from the running demo.
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import puppeteer from 'puppeteer-core'

const base = process.env.DEMO_URL ?? `http://127.0.0.1:${process.env.DEMO_PORT ?? 3210}`
const folder = 'docs/screenshots'
mkdirSync(folder, { recursive: true })

const get = async (path) => (await fetch(base + path)).json()
const { points } = await get('/api/vessels/bookings/lifeline')
const runs = await get('/api/runs?kinds=restore')
// A point from before the fare clean-up, so that there is something to compare.
const before = points.filter((point) => Date.now() - Date.parse(point.at) > 2.2 * 86_400_000).at(-1)

const LEG = 'ferry-db/bookings/sales/booking_leg'
// A leg that the clean-up took, for following it through time.
const { rows: gone } = (await get(`/api/points/${before.id}/compare?path=${encodeURIComponent(LEG)}`)).rows
const lost = gone.find(({ mark }) => mark === 'gone').key

// The morning of the fare clean-up, and its transaction.
const day = new Date(Date.now() - 86_400_000)
const morning = (hour, minute = 0, second = 0) => {
  const at = new Date(day)
  at.setHours(hour, minute, second, 0)
  return at.toISOString()
}
const { heavy } = await get(`/api/vessels/bookings/trace?from=${morning(9)}&to=${morning(10)}`)
const cleanUp = heavy.find(({ application }) => application === 'fare-cleanup')
const stretch = `from=${morning(6)}&to=${morning(13)}`

const VIEWS = [
  ['watch', '/'],
  ['watch-dark', '/', 'dark'],
  ['sources', '/sources/ferry-db/bookings/sales/booking_leg'],
  ['lifeline', '/vessels/bookings'],
  ['lifeline-dark', '/vessels/bookings', 'dark'],
  ['moment', `/vessels/bookings?at=${morning(9, 41, 6)}&${stretch}`],
  ['undo', `/vessels/bookings/undo?${new URLSearchParams({ member: cleanUp.member, position: cleanUp.position, end: cleanUp.end })}`],
  ['changes', '/vessels/bookings/changes?table=sales.booking_leg'],
  ['definition', '/vessels/bookings/definition'],
  ['quiesce', '/vessels/boarding-gate/definition#quiesce', 'light', ['[data-step-bar="pause manifest"]']],
  ['sources-cluster', '/sources/pier/boarding/apps/StatefulSet/manifest'],
  ['files', '/vessels/kiosks/contents?show=pier/kiosk/volume/receipts&folder=2026/11', 'light', ['[data-files] tr:nth-child(3) button']],
  ['contents', `/vessels/bookings/contents?point=${before.id}&show=${LEG}`],
  ['across-time', `/vessels/bookings/contents?point=${before.id}&show=${LEG}&tab=time&column=leg_id&value=${lost}`],
  ['restore', `/vessels/bookings/restore?point=${before.id}&pick=ferry-db/bookings/sales/booking_leg`],
  ['restore-namespace', '/vessels/kiosks/restore?pick=pier/kiosk&show=pier/kiosk/volume/receipts'],
  ['runs', '/runs'],
  ['receipt', `/runs/${runs[0].id}`],
  ['stores', '/stores'],
]

const profile = mkdtempSync(join(tmpdir(), 'vessel-chromium-'))
const browser = await puppeteer.launch({
  executablePath: '/usr/bin/chromium',
  userDataDir: profile,
  args: [
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-sync',
    '--force-color-profile=srgb',
  ],
})
const only = process.argv.slice(2)
for (const [name, path, mode = 'light', clicks = []] of VIEWS) {
  if (only.length > 0 && !only.includes(name)) continue
  const page = await browser.newPage()
  await page.setViewport({ width: 1280, height: 800 })
  await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: mode }])
  await page.goto(base + path)
  await page.waitForNetworkIdle({ idleTime: 600, concurrency: 1 })
  // The first page of all waits longer than the network is still.
  await page.waitForFunction(() => !document.querySelector('[aria-busy=true]') && document.fonts.status === 'loaded')
  for (const selector of clicks) {
    await page.click(selector)
    await page.waitForNetworkIdle({ idleTime: 800, concurrency: 1 })
  }
  await page.screenshot({ path: join(folder, `${name}.png`) })
  await page.close()
  console.log(`${folder}/${name}.png`)
}
await browser.close()
rmSync(profile, { recursive: true, force: true })
