import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import puppeteer, { type Browser, type ElementHandle, type Page } from 'puppeteer-core'

const ARGS = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
]
const PATIENCE_MS = 60_000

/** A person in front of the application: real clicks, real keys, and eyes for what stands on the page. */
/** Rows of a table whose columns can be chosen. */
export const ROW = 'tbody > [data-slot=tr]'

export class Person {
  readonly complaints: string[] = []

  private constructor(
    private readonly browser: Browser,
    readonly page: Page,
    private readonly profile: string,
    private readonly url: string,
  ) {}

  static async at(url: string): Promise<Person> {
    const profile = mkdtempSync(join(tmpdir(), 'vessel-chromium-'))
    const browser = await puppeteer.launch({ executablePath: '/usr/bin/chromium', args: ARGS, userDataDir: profile })
    const page = await browser.newPage()
    await page.setViewport({ width: 1280, height: 800 })
    const person = new Person(browser, page, profile, url)
    page.on('pageerror', (error) => person.complaints.push(String(error)))
    return person
  }

  async opens(path: string): Promise<void> {
    await this.page.goto(this.url + path)
  }

  /** Waits until the text stands on the page. */
  async sees(text: string | RegExp): Promise<void> {
    const [source, flags] = text instanceof RegExp ? [text.source, text.flags] : [text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'), '']
    await this.page
      .waitForFunction(
        (pattern, how) => new RegExp(pattern, how).test(document.body.innerText.replace(/\s+/g, ' ')),
        { timeout: PATIENCE_MS, polling: 100 },
        source,
        flags,
      )
      .catch(async () => {
        throw new Error(`“${text}” does not stand on ${this.page.url()}:\n${(await this.text()).slice(0, 3000)}`)
      })
  }

  async text(selector = 'body'): Promise<string> {
    await this.page.waitForSelector(selector, { timeout: PATIENCE_MS })
    return this.page.$eval(selector, (element) => (element as HTMLElement).innerText.replace(/\s+/g, ' '))
  }

  texts(selector: string): Promise<string[]> {
    return this.page.$$eval(selector, (elements) =>
      elements.map((element) => (element as HTMLElement).innerText.replace(/\s+/g, ' ').trim()),
    )
  }

  /** Clicks what is found by a selector of the browser (`::-p-text(…)`, `::-p-aria(…)`, CSS). */
  async clicks(selector: string): Promise<void> {
    const element = await this.find(selector)
    await element.scrollIntoView()
    await this.uncovered(element)
    // As a person waits for a button to come to life.
    await this.page.waitForFunction((button) => !(button as HTMLButtonElement).disabled, { timeout: PATIENCE_MS, polling: 50 }, element)
    await element.click()
  }

  /** Opens a list and takes one of its choices. */
  async chooses(list: string, choice: string): Promise<void> {
    const none = () => this.page.waitForFunction(() => !document.querySelector('[role=listbox]'), { timeout: PATIENCE_MS, polling: 50 })
    await none()
    await this.clicks(list)
    await this.clicks(`[role=option]::-p-text(${choice})`)
    await none()
  }

  /** Waits until nothing lies over the middle of an element, such as a sheet that is closing, and it has come to rest. */
  private async uncovered(element: ElementHandle): Promise<void> {
    await this.page.waitForFunction(
      (wanted) => {
        const element = wanted as Element & { wasAt?: string }
        const { left, top, width, height } = element.getBoundingClientRect()
        // A page does not scroll while a dialog over it still closes.
        if (top + height / 2 < 0 || top + height / 2 > innerHeight) element.scrollIntoView({ block: 'center' })
        const place = `${left} ${top} ${width} ${height}`
        const rests = element.wasAt === place
        element.wasAt = place
        const hit = document.elementFromPoint(left + width / 2, top + height / 2)
        return rests && hit !== null && (element.contains(hit) || hit.contains(element))
      },
      { timeout: PATIENCE_MS, polling: 50 },
      element,
    )
  }

  private async find(selector: string): Promise<ElementHandle> {
    const element = await this.page.waitForSelector(selector, { visible: true, timeout: PATIENCE_MS }).catch(async () => {
      throw new Error(`nothing is found by ${selector} on ${this.page.url()}:\n${await this.text('body')}`)
    })
    if (!element) throw new Error(`nothing is found by ${selector}`)
    return element
  }

  async presses(button: string): Promise<void> {
    await this.clicks(`button::-p-text(${button}), a::-p-text(${button})`)
  }

  /** Writes into a field in place of what stands there. */
  async writes(selector: string, text: string): Promise<void> {
    const field = await this.find(selector)
    await field.scrollIntoView()
    await this.uncovered(field)
    await field.click({ count: 3 })
    await this.page.keyboard.press('Backspace')
    await field.type(text)
  }

  /** Puts a long text into a field in place of what stands there, as from the clipboard. */
  async pastes(selector: string, text: string): Promise<void> {
    const field = await this.find(selector)
    await field.scrollIntoView()
    await this.uncovered(field)
    await field.click()
    await this.page.keyboard.down('Control')
    await this.page.keyboard.press('a')
    await this.page.keyboard.up('Control')
    await this.page.keyboard.sendCharacter(text)
  }

  /** Waits until the first thing that is found reads so. */
  async reads(selector: string, pattern: RegExp): Promise<void> {
    await this.page
      .waitForFunction(
        (where, source) =>
          new RegExp(source).test((document.querySelector<HTMLElement>(where)?.innerText ?? '').replace(/\s+/g, ' ').trim()),
        { timeout: PATIENCE_MS, polling: 100 },
        selector,
        pattern.source,
      )
      .catch(async () => {
        throw new Error(`${selector} does not read ${pattern}: ${(await this.texts(selector))[0] ?? 'there is none'}`)
      })
  }

  /** Ticks or unticks what stands at a path of the workbench's tree. */
  async ticks(path: string): Promise<void> {
    await this.clicks(`[data-path="${path}"] [role=checkbox]`)
  }

  async arrivesAt(pattern: RegExp): Promise<void> {
    await this.page
      .waitForFunction((source) => new RegExp(source).test(location.href), { timeout: PATIENCE_MS, polling: 100 }, pattern.source)
      .catch(() => {
        throw new Error(`still at ${this.page.url()}, not at ${pattern}`)
      })
  }

  async leaves(): Promise<void> {
    await this.browser.close()
    rmSync(this.profile, { recursive: true, force: true })
  }
}
