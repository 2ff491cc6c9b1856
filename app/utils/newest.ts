/**
 * For what is asked for again and again, where a later request makes those before it worthless: each request begins one,
 * and asks it, once there is an answer, whether that is still wanted.
 */
export function newestOf(): () => () => boolean {
  let last = 0
  return () => {
    const number = ++last
    return () => number === last
  }
}
