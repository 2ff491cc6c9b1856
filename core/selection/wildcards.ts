/** A pattern in which `*` stands for any characters, as the source of a regular expression; everything else is itself. */
export const wildcardSource = (pattern: string): string => pattern.replace(/[.+?^${}()|[\]\\]/g, '\\$&').replaceAll('*', '.*')
