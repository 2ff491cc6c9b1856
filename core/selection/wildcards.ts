/**
 * Whether texts fit a pattern in which `*` stands for any characters and, where `single` is set, `?` for one; everything
 * else is itself. A `*` that turned out too short only ever grows from where the last one began, so that no pattern takes
 * longer than its length times that of the text.
 */
export function fitting(pattern: string, single = false): (text: string) => boolean {
  return (text) => {
    let [at, next] = [0, 0]
    let star: { pattern: number; text: number } | null = null
    while (at < text.length) {
      if (pattern[next] === '*') star = { pattern: ++next, text: at }
      else if (next < pattern.length && (pattern[next] === text[at] || (single && pattern[next] === '?'))) [at, next] = [at + 1, next + 1]
      else if (star) [at, next] = [++star.text, star.pattern]
      else return false
    }
    while (pattern[next] === '*') next++
    return next === pattern.length
  }
}
