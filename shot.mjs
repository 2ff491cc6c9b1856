import puppeteer from 'puppeteer-core'
const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] })
const page = await browser.newPage()
const shots = process.argv.slice(2)
for (const shot of shots) {
  const [name, path, theme = 'light', width = '1280'] = shot.split('|')
  await page.setViewport({ width: Number(width), height: 800 })
  await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: theme }])
  await page.goto('http://127.0.0.1:3210' + path)
  await page.waitForSelector('main')
  await new Promise((r) => setTimeout(r, 1800))
  await page.screenshot({ path: `/tmp/${name}.png` })
}
await browser.close()
