const ESCAPES: Record<string, string> = { '\\': '\\\\', '\b': '\\b', '\f': '\\f', '\n': '\\n', '\r': '\\r', '\t': '\\t', '\v': '\\v' }

/** A value as a field of COPY text; null is `\N`. The counterpart of `fieldsOf`. */
export function copyText(value: string | null): string {
  return value === null ? '\\N' : value.replace(/[\\\b\f\n\r\t\v]/g, (character) => ESCAPES[character]!)
}
