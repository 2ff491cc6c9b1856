import { AxePuppeteer } from '@axe-core/puppeteer'
import type { Page } from 'puppeteer-core'

const SIZES = [
  { width: 1280, height: 800 },
  { width: 1024, height: 768 },
]
// One document and what is wrong with it: nothing is fetched again, and what is right is not told.
const ONLY_FAULTS = { resultTypes: ['violations' as const], preload: false }
const MODES = ['light', 'dark'] as const

/** Waits until a page has what it loads, and nothing of it moves in any more. */
async function settled(page: Page): Promise<void> {
  await page.waitForFunction(() => !document.querySelector('[aria-busy=true]') && document.fonts.status === 'loaded', { polling: 50 })
  const rests = () =>
    document
      .getAnimations()
      .every((animation) => animation.playState !== 'running' || animation.effect?.getComputedTiming().endTime === Infinity)
  await page.waitForFunction(rests, { polling: 50 })
}

/**
 * What is wrong with a page for whoever does not see it well or has no mouse, by the rules of WCAG 2.2 AA and the good
 * practice that axe knows, light and dark, at 1280 and 1024 pixels; and what of it runs out of the window.
 */
export async function faultsOf(page: Page): Promise<string[]> {
  const faults = new Set<string>()
  for (const size of SIZES)
    for (const mode of MODES) {
      await page.setViewport(size)
      await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: mode }])
      await settled(page)
      // The types are of the package that brings a browser along; its pages are the same.
      const { violations } = await new AxePuppeteer(page as never).setLegacyMode(true).options(ONLY_FAULTS).analyze()
      for (const { id, nodes } of violations)
        for (const { target, any, all, none } of nodes)
          faults.add(
            `${id} at ${size.width} ${mode}: ${target.join(' ')}: ${[...any, ...all, ...none].map(({ message }) => message).join('; ')}`,
          )
      const wide = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)
      if (wide > 0) faults.add(`runs out of the window by ${wide} pixels at ${size.width}`)
    }
  await page.setViewport(SIZES[0]!)
  await page.emulateMediaFeatures([{ name: 'prefers-color-scheme', value: 'light' }])
  return [...faults]
}
