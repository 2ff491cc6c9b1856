import { seenOf, type TreeThing } from '~~/core/things/tree'

// Looks through very many things while the page goes on: they come once, and every wish of what is to be seen after them.

export type ToTree = { things: TreeThing[] } | { turn: number; text: string; folded: string[] }
export interface FromTree {
  turn: number
  seen: Uint32Array
}

let things: TreeThing[] = []
addEventListener('message', ({ data }: MessageEvent<ToTree>) => {
  if ('things' in data) return void (things = data.things)
  const seen = Uint32Array.from(seenOf(things, data.text, new Set(data.folded)))
  postMessage({ turn: data.turn, seen } satisfies FromTree, { transfer: [seen.buffer] })
})
