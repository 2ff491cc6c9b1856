/**
 * Label selectors in the text syntax of the Kubernetes API (an open standard): requirements parted by commas that
 * must all hold, such as `app=gate,tier in (front, back),!debug`.
 */
export interface Requirement {
  key: string
  /** `in` and `notin` have values; a thing without the label fits `notin`. */
  operator: 'in' | 'notin' | 'exists' | 'absent'
  values: string[]
}

export type LabelSelector = Requirement[]

const NAME = '[A-Za-z0-9](?:[A-Za-z0-9_.-]{0,61}[A-Za-z0-9])?'
const KEY = `(?:[a-z0-9](?:[a-z0-9.-]{0,251}[a-z0-9])?/)?${NAME}`
const FORMS: [RegExp, (match: string[]) => Requirement][] = [
  [new RegExp(`^(${KEY})\\s*(?:==|=)\\s*(${NAME})?$`), ([, key, value]) => ({ key: key!, operator: 'in', values: [value ?? ''] })],
  [new RegExp(`^(${KEY})\\s*!=\\s*(${NAME})?$`), ([, key, value]) => ({ key: key!, operator: 'notin', values: [value ?? ''] })],
  [
    new RegExp(`^(${KEY})\\s+(in|notin)\\s*\\(([^()]*)\\)$`),
    ([, key, operator, values]) => ({
      key: key!,
      operator: operator as 'in' | 'notin',
      values: values!.split(',').map((value) => value.trim()),
    }),
  ],
  [new RegExp(`^(${KEY})$`), ([, key]) => ({ key: key!, operator: 'exists', values: [] })],
  [new RegExp(`^!\\s*(${KEY})$`), ([, key]) => ({ key: key!, operator: 'absent', values: [] })],
]
const VALUE = new RegExp(`^(?:${NAME})?$`)

/** Commas that part requirements, not those between the values of one. */
function partsOf(text: string): string[] {
  const parts: string[] = ['']
  let depth = 0
  for (const character of text) {
    if (character === '(') depth++
    if (character === ')') depth--
    if (character === ',' && depth === 0) parts.push('')
    else parts[parts.length - 1] += character
  }
  return parts.map((part) => part.trim())
}

/** Reads a selector; what can't be read is told in words. An empty text fits everything. */
export function parseLabelSelector(text: string): { selector: LabelSelector; trouble: null } | { selector: null; trouble: string } {
  if (text.trim() === '') return { selector: [], trouble: null }
  const selector: LabelSelector = []
  for (const part of partsOf(text)) {
    const found = FORMS.flatMap(([form, read]) => {
      const match = form.exec(part)
      return match ? [read(match)] : []
    })[0]
    const wrong = found?.values.find((value) => !VALUE.test(value))
    if (!found || wrong !== undefined)
      return {
        selector: null,
        trouble:
          part === ''
            ? 'A requirement between two commas is empty.'
            : `“${wrong ?? part}” is not ${found ? 'a label’s value' : 'a requirement'}, as in app=gate, tier in (front, back) or !debug.`,
      }
    selector.push(found)
  }
  return { selector, trouble: null }
}

function holds({ key, operator, values }: Requirement, labels: Record<string, string>): boolean {
  const value = Object.hasOwn(labels, key) ? labels[key] : undefined
  if (operator === 'exists') return value !== undefined
  if (operator === 'absent') return value === undefined
  return operator === 'in' ? value !== undefined && values.includes(value) : value === undefined || !values.includes(value)
}

/** A selector as objects hold it, in fields. */
export interface SelectorFields {
  matchLabels?: Record<string, string>
  matchExpressions?: { key: string; operator: 'In' | 'NotIn' | 'Exists' | 'DoesNotExist'; values?: string[] }[]
}

const OPERATORS = { In: 'in', NotIn: 'notin', Exists: 'exists', DoesNotExist: 'absent' } as const

export const selectorOf = ({ matchLabels = {}, matchExpressions = [] }: SelectorFields): LabelSelector => [
  ...Object.entries(matchLabels).map(([key, value]): Requirement => ({ key, operator: 'in', values: [value] })),
  ...matchExpressions.map(({ key, operator, values = [] }): Requirement => ({ key, operator: OPERATORS[operator], values })),
]

export const fitsLabels = (selector: LabelSelector, labels: Record<string, string>): boolean =>
  selector.every((requirement) => holds(requirement, labels))

/** Why a selector does not fit, requirement by requirement, in words; empty when it does. */
export function misfits(selector: LabelSelector, labels: Record<string, string>): string[] {
  return selector
    .filter((requirement) => !holds(requirement, labels))
    .map(({ key, operator, values }) => {
      const has = Object.hasOwn(labels, key) ? `${key} is ${labels[key] === '' ? 'empty' : labels[key]}` : `it has no label ${key}`
      if (operator === 'exists' || operator === 'absent') return has
      return `${has}, not ${operator === 'in' ? values.join(' or ') : 'something else'}`
    })
}
