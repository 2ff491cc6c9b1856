// The text of a value hangs on more than the name of its type: an enum's label can be renamed, and a row type can
// lose an attribute, without any row being written anew. What it hangs on is the shape of a column.

export type Shape =
  | { labels: Record<string, string> }
  /** Number in the catalog, type, and what its text hangs on in turn. */
  | { attributes: [number: number, type: number, shape: Shape | null][] }

/** Whether every value that could be written by one shape has the same text by another. Labels may have come to an enum. */
export function keepsShape(before: Shape | null, after: Shape | null): boolean {
  if (before === null || after === null) return before === after
  if ('labels' in before) return 'labels' in after && Object.entries(before.labels).every(([oid, label]) => after.labels[oid] === label)
  if (!('attributes' in after) || before.attributes.length !== after.attributes.length) return false
  return before.attributes.every(([number, type, shape], i) => {
    const [numberNow, typeNow, shapeNow] = after.attributes[i]!
    return number === numberNow && type === typeNow && keepsShape(shape, shapeNow)
  })
}
