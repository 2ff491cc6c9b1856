/**
 * Whether the words are those of the PostgreSQL driver for a connection that broke: in the middle of a statement, or before
 * the one that was to go next. The driver gives no code with them.
 */
export const tellsBrokenConnection = (message: string): boolean =>
  /^Connection (terminated|ended)|has encountered a connection error|was closed and is not queryable/i.test(message)
