import { onScopeDispose, shallowRef, watch, type Ref } from 'vue'
import { isContainer } from '~/utils/things'
import { seenOf, type TreeThing } from '~~/core/things/tree'
import type { PointThing } from '~~/server/views'
import type { FromTree, ToTree } from '~/workers/tree'

/** From so many on they are looked through beside the page, so that no key stroke waits for it. */
const MANY = 3000

/** What of a tree is to be seen, whatever is filtered or folded. */
export function useSeenThings(things: () => PointThing[], filter: Ref<string>, folded: Ref<Set<string>>) {
  const seen = shallowRef<PointThing[]>([])
  let worker: Worker | null = null
  let turn = 0
  const forTree = (all: PointThing[]) =>
    all.map((thing): TreeThing => ({ path: thing.path, name: thing.name, isContainer: isContainer(thing) }))
  const tell = (message: ToTree) => worker!.postMessage(message)

  function begin(): Worker {
    const made = new Worker(new URL('../workers/tree.ts', import.meta.url), { type: 'module' })
    made.addEventListener('message', ({ data }: MessageEvent<FromTree>) => {
      // What was wished for before is not wanted any more.
      if (data.turn !== turn) return
      const all = things()
      seen.value = Array.from(data.seen, (i) => all[i]!)
    })
    return made
  }
  watch(
    [things, filter, folded],
    ([all, text, shut], before) => {
      turn++
      if (all.length < MANY) return void (seen.value = seenOf(forTree(all), text, shut).map((i) => all[i]!))
      worker ??= begin()
      if (all !== before[0]) tell({ things: forTree(all) })
      tell({ turn, text, folded: [...shut] })
    },
    { immediate: true },
  )
  onScopeDispose(() => worker?.terminate())
  return seen
}
