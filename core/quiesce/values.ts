/**
 * Values that a step returns, and that later steps use. A step returns them as lines `name=value` of its output; a
 * later one names them `{step.name}`.
 */
export type StepValues = Record<string, string>

const LINE = /^([A-Za-z][\w-]{0,63})=(.*)$/
const NAMED = /\{([A-Za-z][\w -]{0,39})\.([A-Za-z][\w-]{0,63})\}/g
const MOST_VALUES = 100

/** Values in the lines of an output; other lines are for people. */
export function valuesIn(output: string): StepValues {
  const values: StepValues = {}
  for (const line of output.split(/\r?\n/)) {
    const match = LINE.exec(line)
    if (match && Object.keys(values).length < MOST_VALUES) values[match[1]!] = match[2]!
  }
  return values
}

/** Which values a text names. */
export const namesIn = (text: string): { step: string; name: string }[] =>
  [...text.matchAll(NAMED)].map(([, step, name]) => ({ step: step!, name: name! }))

/**
 * A text with the values put in, each as `quote` writes it where it goes.
 * @returns what is missing instead, when a step did not return a value that is named
 */
export function fillIn(
  text: string,
  values: Record<string, StepValues>,
  quote: (value: string) => string = (value) => value,
): { text: string; missing: string | null } {
  const missing = namesIn(text).find(({ step, name }) => !Object.hasOwn(values[step] ?? {}, name))
  if (missing) return { text, missing: `${missing.step}.${missing.name}` }
  return { text: text.replaceAll(NAMED, (_, step: string, name: string) => quote(values[step]![name]!)), missing: null }
}

/** Several texts, as `fillIn` does each. */
export function fillInAll(texts: string[], values: Record<string, StepValues>): { texts: string[]; missing: string | null } {
  const filled = texts.map((text) => fillIn(text, values))
  return { texts: filled.map(({ text }) => text), missing: filled.find(({ missing }) => missing !== null)?.missing ?? null }
}
