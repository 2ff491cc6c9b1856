/** How long the name of a vessel, or of a restore that is kept, may be. */
export const NAME_LENGTH = 80

/** Why what a person typed can't be the name of something; null when it can. Blanks around it don't count. */
export function nameTrouble(name: string, longest: number): string | null {
  const text = name.trim()
  if (text.length > longest) return `The name has ${text.length} characters, and may have ${longest}.`
  // Whoever reads lists must be able to tell it from an empty place, and search for it.
  if (!/[\p{L}\p{N}]/u.test(text)) return 'The name needs a letter or a digit at least.'
  return /\p{C}/u.test(text) ? 'The name holds a character that can’t be seen.' : null
}

/** The name as part of an address: small letters, digits and “-”, and another one than those that are taken. */
export function slugFor(name: string, taken: ReadonlySet<string>): string {
  const base =
    name
      .normalize('NFKD')
      .replace(/[\u0300-\u036f]/g, '')
      .toLowerCase()
      .replace(/[^a-z0-9]+/g, '-')
      .replace(/^-+|-+$/g, '') || 'vessel'
  let slug = base
  for (let more = 2; taken.has(slug); more++) slug = `${base}-${more}`
  return slug
}
