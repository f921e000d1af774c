/** A column of a RowList; its heading and its cells are the slots `head-KEY` and `KEY`. */
export interface RowColumn<Row> {
  key: string
  /** Where the slot `head-KEY` says nothing else. */
  heading?: string
  /** What stands before the cell on a phone; nothing where the cell says it itself. */
  title?: string
  width: number
  /** How much of what is left over it takes. */
  grow?: number
  /** Without a heading on a phone, since nothing sorts by it. */
  plain?: boolean
  /** The whole text of a cell that may be cut off. */
  hint?: (row: Row) => string | undefined
}
