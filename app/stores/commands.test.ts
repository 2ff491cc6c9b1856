import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it } from 'vitest'
import { keysInWords, useCommands, type Command } from './commands'

const command = (id: string, more: Partial<Command> = {}): Command => ({
  id,
  label: id,
  keys: ['b'],
  on: 'this page',
  run: () => undefined,
  ...more,
})

describe('the commands', () => {
  beforeEach(() => setActivePinia(createPinia()))

  it('are known for as long as the page that can do them is shown', () => {
    const commands = useCommands()
    const leave = commands.add([command('back up', { listed: true })])
    commands.add([command('help', { on: 'every page', keys: ['?'] })])
    expect(commands.listed.map(({ id }) => id)).toEqual(['back up'])
    expect(commands.groups.map(({ on, commands: of }) => [on, of.map(({ id }) => id)])).toEqual([
      ['this page', ['back up']],
      ['every page', ['help']],
    ])
    leave()
    expect(commands.groups.map(({ on }) => on)).toEqual(['every page'])
  })

  it('of the page that comes stay, though the one that goes knew the same', () => {
    const commands = useCommands()
    const leave = commands.add([command('back up', { label: 'Back up bookings' })])
    commands.add([command('back up', { label: 'Back up harbour office' })])
    leave()
    expect(commands.all.map(({ label }) => label)).toEqual(['Back up harbour office'])
  })

  it('are told by the keys as they are written on a keyboard', () => {
    expect(['b', 'shift_b', 'g-w', '-', 'meta_k', 'shift_arrowleft'].map(keysInWords)).toEqual([
      ['b'],
      ['Shift', 'B'],
      ['g', 'w'],
      ['-'],
      ['Ctrl', 'K'],
      ['Shift', '←'],
    ])
  })
})
