import type { Command } from '~/stores/commands'
import { toTime, toX, zoomed, type Scale } from '~~/core/chain/layout'

export interface TimeRange {
  from: number
  to: number
}

export const LIFELINE_LEFT = 216
const HOUR = 3_600_000
const LEAST_MS = 10_000
const SNAP_PIXELS = 9

export const PRESETS = [
  ['1 h', HOUR],
  ['1 d', 24 * HOUR],
  ['7 d', 7 * 24 * HOUR],
  ['30 d', 30 * 24 * HOUR],
  ['all', 0],
] as const

interface Inputs {
  root: Readonly<Ref<HTMLElement | null>>
  width: Readonly<Ref<number>>
  /** Moments of the points, sorted. */
  points: () => number[]
  now: () => number
}

/** The stretch of time that a lifeline shows and the scrubber in it, moved by pointer, wheel and keys. */
export function useTimeWindow(range: Ref<TimeRange>, moment: Ref<number>, { root, width, points, now }: Inputs) {
  const right = computed(() => Math.max(LIFELINE_LEFT + 200, width.value - 24))
  const scale = computed<Scale>(() => ({ ...range.value, left: LIFELINE_LEFT, right: right.value }))
  const oldest = computed(() => points()[0] ?? now())
  const life = computed<Scale>(() => ({
    // Room before the first mark, which is named at the edge: little enough to be told apart from the next time there.
    from: oldest.value - Math.min(HOUR, Math.max(now() - oldest.value, HOUR) * 0.02),
    to: Math.max(now(), oldest.value + HOUR),
    left: LIFELINE_LEFT,
    right: right.value,
  }))
  const x = (at: number) => toX(scale.value, at)
  const clampX = (value: number) => Math.max(LIFELINE_LEFT, Math.min(right.value, value))
  const span = () => range.value.to - range.value.from

  /** Shows a stretch, but never so far away that nothing of the life is in view. */
  function show(from: number, to: number): void {
    const shift = from > now() ? now() - from : to < oldest.value ? oldest.value - to : 0
    range.value = { from: from + shift, to: to + shift }
  }
  const around = (at: number) => show(at - span() / 2, at + span() / 2)
  function zoom(at: number, factor: number): void {
    const most = Math.max(40 * 24 * HOUR, (now() - oldest.value) * 1.5)
    const { from, to } = zoomed(scale.value, at, factor, { least: LEAST_MS, most })
    show(from, to)
  }
  function pan(pixels: number): void {
    const by = (pixels / (right.value - LIFELINE_LEFT)) * span()
    show(range.value.from + by, range.value.to + by)
  }
  function preset(length: number): void {
    const whole = length || (now() - oldest.value) * 1.06 || HOUR
    const to = length && moment.value < now() - whole ? moment.value + whole / 2 : now() + whole * 0.05
    range.value = { from: to - whole * 1.05, to }
  }

  /** Marks attract the scrubber, because between them nothing else can be entered. */
  function snapped(pixel: number): number {
    let best = toTime(scale.value, pixel)
    let distance = SNAP_PIXELS
    for (const at of points()) {
      const away = Math.abs(x(at) - pixel)
      if (away < distance) [best, distance] = [at, away]
    }
    return Math.min(best, now())
  }
  function enter(at: number): void {
    moment.value = Math.min(at, now())
    if (at < range.value.from || at > range.value.to) around(at)
  }
  function step(direction: 1 | -1): void {
    const next = direction > 0 ? points().find((at) => at > moment.value + 0.5) : points().findLast((at) => at < moment.value - 0.5)
    if (next !== undefined) enter(next)
  }

  const pointerX = (event: MouseEvent) => event.clientX - root.value!.getBoundingClientRect().left
  let drag: { kind: 'pan' | 'scrub' | 'life'; x: number; moved: boolean } | null = null
  function begin(kind: 'pan' | 'scrub' | 'life', event: PointerEvent): void {
    if (event.button !== 0) return
    drag = { kind, x: pointerX(event), moved: false }
    const target = event.currentTarget as Element
    target.setPointerCapture(event.pointerId)
    if (kind === 'life') move(event)
    event.stopPropagation()
  }
  function move(event: PointerEvent): void {
    if (!drag) return
    const at = pointerX(event)
    if (drag.kind === 'scrub') moment.value = snapped(clampX(at))
    else if (drag.kind === 'life') around(toTime(life.value, clampX(at)))
    else if (drag.moved || Math.abs(at - drag.x) > 2) {
      pan(drag.x - at)
      drag = { kind: 'pan', x: at, moved: true }
    }
  }
  function end(event: PointerEvent): void {
    if (drag?.kind === 'pan' && !drag.moved) moment.value = snapped(clampX(pointerX(event)))
    drag = null
  }
  function onWheel(event: WheelEvent): void {
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) pan(event.deltaX)
    else zoom(clampX(pointerX(event)), Math.exp(event.deltaY * 0.0016))
  }
  const move1 = (by: 1 | -1) => (moment.value = Math.min(now(), toTime(scale.value, clampX(x(moment.value) + by))))
  const zoomHere = (by: number) => zoom(clampX(x(moment.value)), by)
  const key = (label: string, keys: string[], run: () => void): Command => ({ id: label, label, keys, on: 'this page', run })
  useCommand(() => [
    key('Move the scrubber back by a pixel', ['arrowleft'], () => move1(-1)),
    key('Move the scrubber on by a pixel', ['arrowright'], () => move1(1)),
    key('Go to the mark before', ['[', 'shift_arrowleft'], () => step(-1)),
    key('Go to the mark after', [']', 'shift_arrowright'], () => step(1)),
    key('Look at a shorter time', ['+'], () => zoomHere(0.7)),
    key('Look at a longer time', ['-'], () => zoomHere(1.4)),
  ])
  return { scale, life, right, oldest, x, clampX, preset, enter, begin, move, end, onWheel }
}

export type TimeWindow = ReturnType<typeof useTimeWindow>
