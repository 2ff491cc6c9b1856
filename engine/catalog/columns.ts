import type { ColumnType } from 'kysely'

/** What is kept as JSON: written as text, read as what it says. */
export type Json<T> = ColumnType<T, string, string>
export type Time = ColumnType<Date, Date | string, Date | string>
