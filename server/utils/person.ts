/** Who starts runs by the interface, until there are accounts. */
export const PERSON = 'a person, in the interface'
