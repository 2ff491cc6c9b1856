import { useCommands, type Command } from '~/stores/commands'

/** The places, in the order in which they stand in the bar. */
export const PLACES = [
  { name: 'Watch', to: '/', key: 'g-w' },
  { name: 'Sources', to: '/sources', key: 'g-o' },
  { name: 'Vessels', to: '/vessels', key: 'g-v' },
  { name: 'Runs', to: '/runs', key: 'g-r' },
  { name: 'Stores', to: '/stores', key: 'g-s' },
]
const SEQUENCE_MS = 1200

/** Where letters are written, or choose from a list by the beginning of its words. */
const TAKES_LETTERS = 'input, textarea, select, [contenteditable=""], [contenteditable=true], [role=combobox], [role=listbox], [role=menu]'
/** What is open above the page has its own keys. */
const IN_FRONT = '[role=dialog], [role=alertdialog], [role=listbox], [role=menu]'

/** Whether a key is ours to use: nothing is written or chosen, and nothing is open above the page. */
function isKeyFree(event?: KeyboardEvent): boolean {
  if (event?.target instanceof Element && event.target.closest(TAKES_LETTERS)) return false
  return document.querySelector(IN_FRONT) === null
}

/** Makes commands known for as long as the component is there; given anew whenever what they say changes. */
export function useCommand(commands: () => Command[]): void {
  const store = useCommands()
  watchEffect((cleanUp) => cleanUp(store.add(commands())))
}

/** The keys of all commands. Those of the browser itself are left alone. */
export function useKeys(): void {
  const store = useCommands()
  const commands = everywhere()
  useCommand(() => commands)
  defineShortcuts(
    computed(() =>
      Object.fromEntries(
        store.all.flatMap(({ keys, always = false, run }) => {
          const handler = (event: KeyboardEvent) => void ((always || isKeyFree(event)) && run(event))
          return keys.map((key) => [key, { handler, usingInput: always }])
        }),
      ),
    ),
    { chainDelay: SEQUENCE_MS },
  )
}

function everywhere(): Command[] {
  const { palette, help } = storeToRefs(useScreen())
  const on = 'every page'
  const list = (id: string, label: string, keys: string[], run: () => void): Command => ({ id, label, keys, on, run })
  return [
    {
      id: 'palette',
      label: 'Find or do anything',
      keys: ['meta_k'],
      on,
      always: true,
      run: () => (palette.value = !palette.value),
    },
    ...PLACES.map(({ name, to, key }): Command => ({
      id: `go ${to}`,
      label: `Go to ${name}`,
      keys: [key],
      on,
      icon: 'i-lucide-arrow-right',
      listed: true,
      run: () => void navigateTo(to),
    })),
    list('next', 'Go down in a list', ['j'], () => moveFocus(1)),
    list('previous', 'Go up in a list', ['k'], () => moveFocus(-1)),
    list('tick', 'Tick what is chosen in a list', ['x'], tick),
    list('help', 'Show keys and words', ['?'], () => (help.value = true)),
  ]
}

/** Rows of lists, which are marked, and of tables. */
const ROW = '[data-row], tbody > [data-slot=tr]'

/** The box of what has the focus, or of the row in which it lies. */
function tick(): void {
  const chosen = document.activeElement
  const BOX = '[role=checkbox], input[type=checkbox]'
  const box = chosen?.matches(BOX) ? chosen : (chosen?.querySelector(BOX) ?? chosen?.closest(ROW)?.querySelector(BOX))
  if (box instanceof HTMLElement) box.click()
}

/** Moves through the rows of the list, or of the table, on the page. */
function moveFocus(by: 1 | -1): void {
  const rows = [...document.querySelectorAll<HTMLElement>(ROW)]
  if (rows.length === 0) return
  const at = rows.findIndex((row) => row.contains(document.activeElement))
  const next = rows[Math.max(0, Math.min(rows.length - 1, at < 0 ? 0 : at + by))]!
  const target = next.matches('a, button, [tabindex]') ? next : next.querySelector<HTMLElement>('a, button, [tabindex]')
  target?.focus()
}
