import { defineStore } from 'pinia'
import { computed, shallowReactive } from 'vue'

// All that can be done with a key or from the palette, in one place: the palette, the help and the menus tell of the same.

export interface Command {
  id: string
  /** Begins with a verb, and can be understood alone. */
  label: string
  /** Keys as Nuxt UI writes them: `g-w` is g, then w; `shift_b` is both at once. Each of them will do. */
  keys: string[]
  /** Where it works: on every page, or on the one that is shown. */
  on: 'every page' | 'this page'
  icon?: string
  /** Whether the palette offers it; what moves about within a page is done by its keys alone. */
  listed?: boolean
  /** Whether its keys work while text is written or a dialog is open, too. */
  always?: boolean
  run: (event?: KeyboardEvent) => void
}

/** What stands on a key: `g-w` is `g w`, `shift_b` is `Shift B`. */
const NAMES: Record<string, string> = { arrowleft: '←', arrowright: '→', meta: 'Ctrl', shift: 'Shift', escape: 'Esc', enter: 'Enter' }
export function keysInWords(keys: string): string[] {
  const isChain = keys.length > 1 && keys.includes('-')
  const withShift = keys.includes('shift_') || keys.includes('meta_')
  return keys.split(isChain ? '-' : '_').map((key) => NAMES[key] ?? (withShift ? key.toUpperCase() : key))
}

export const useCommands = defineStore('commands', () => {
  const known = shallowReactive(new Map<string, Command>())

  /** Makes commands known. Returns what takes them back. */
  function add(commands: readonly Command[]): () => void {
    for (const command of commands) known.set(command.id, command)
    return () => {
      // A page that comes may have taken the place of one that goes.
      for (const command of commands) if (known.get(command.id) === command) known.delete(command.id)
    }
  }

  const all = computed(() => [...known.values()])
  const listed = computed(() => all.value.filter((command) => command.listed))
  const groups = computed(() =>
    (['this page', 'every page'] as const)
      .map((on) => ({ on, commands: all.value.filter((command) => command.on === on && command.keys.length > 0) }))
      .filter(({ commands }) => commands.length > 0),
  )
  return { all, listed, groups, add }
})
