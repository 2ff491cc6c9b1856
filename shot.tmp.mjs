import puppeteer from 'puppeteer-core'
const [,, ...jobs] = process.argv
const b = await puppeteer.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox'] })
const p = await b.newPage()
p.on('pageerror', e => console.log('ERR', e.message))
for (const job of jobs) {
  const [name, path, dark, h, act] = job.split('|')
  await p.setViewport({ width: 1280, height: Number(h || 800) })
  await p.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: dark === 'dark' ? 'dark' : 'light' }])
  await p.goto('http://127.0.0.1:3210' + path, { waitUntil: 'networkidle2', timeout: 60000 }).catch(e => console.log(e.message))
  await new Promise(r => setTimeout(r, 1500))
  if (act) for (const a of act.split('>>')) { await p.click(a).catch(e => console.log(a, e.message)); await new Promise(r => setTimeout(r, 900)) }
  await p.screenshot({ path: `/tmp/s-${name}.png` })
}
await b.close()
