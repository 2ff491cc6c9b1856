const PLACES: Record<string, string> = { w: '/', o: '/sources', v: '/vessels', r: '/runs', s: '/stores' }
const SEQUENCE_MS = 1200

/** Where letters are written, or choose from a list by the beginning of its words. */
const TAKES_LETTERS = 'input, textarea, select, [contenteditable=""], [contenteditable=true], [role=combobox], [role=listbox], [role=menu]'
/** What is open above the page has its own keys. */
const IN_FRONT = '[role=dialog], [role=alertdialog], [role=listbox], [role=menu]'

/** Whether a key is ours to use: nothing is written or chosen, nothing is open above the page, and it is none of the browser's own. */
export function isKeyFree(event: KeyboardEvent): boolean {
  if (event.defaultPrevented || event.ctrlKey || event.metaKey || event.altKey) return false
  if (event.target instanceof Element && event.target.closest(TAKES_LETTERS)) return false
  return document.querySelector(IN_FRONT) === null
}

/** The keys that work everywhere. Keys of the browser itself are left alone. */
export function useKeys(): void {
  const palette = usePalette()
  const help = useKeyHelp()
  let waiting = 0
  useEventListener('keydown', (event: KeyboardEvent) => {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault()
      palette.value = !palette.value
      return
    }
    if (!isKeyFree(event)) return
    if (Date.now() < waiting && PLACES[event.key]) {
      waiting = 0
      event.preventDefault()
      void navigateTo(PLACES[event.key]!)
      return
    }
    waiting = event.key === 'g' ? Date.now() + SEQUENCE_MS : 0
    if (event.key === '?') help.value = true
    else if (event.key === 'j' || event.key === 'k') moveFocus(event.key === 'j' ? 1 : -1)
    else if (event.key === 'b') pressed('[data-key=back-up]', event)
    else if (event.key === 'B') pressed('[data-key=restore]', event)
    else if (event.key === 'x') pressed(':focus [role=checkbox], :focus[role=checkbox]', event)
  })
}

function pressed(selector: string, event: KeyboardEvent): void {
  const element = document.querySelector<HTMLElement>(selector)
  if (!element) return
  event.preventDefault()
  element.click()
}

/** Moves through the rows of the list on the page, which are marked `data-row`. */
function moveFocus(by: 1 | -1): void {
  const rows = [...document.querySelectorAll<HTMLElement>('[data-row]')]
  if (rows.length === 0) return
  const at = rows.findIndex((row) => row.contains(document.activeElement))
  const next = rows[Math.max(0, Math.min(rows.length - 1, at < 0 ? 0 : at + by))]!
  const target = next.matches('a, button, [tabindex]') ? next : next.querySelector<HTMLElement>('a, button, [tabindex]')
  target?.focus()
}
