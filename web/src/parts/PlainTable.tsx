import { Box } from '@mui/material'
import type { ReactNode } from 'react'

export interface PlainColumn<Row> {
  title: string
  number?: boolean
  width?: number | string
  cell: (row: Row) => ReactNode
}

// PlainTable is for lists that stay short: the members of a place, the tokens of
// somebody.
export function PlainTable<Row>({ label, columns, rows, rowKey }: {
  label: string
  columns: PlainColumn<Row>[]
  rows: Row[]
  rowKey: (row: Row) => string | number
}) {
  return (
    <Box
      component="table" aria-label={label}
      sx={{
        width: '100%', borderCollapse: 'collapse',
        '& th': { textAlign: 'left', fontWeight: 400, color: 'text.secondary', fontSize: '0.8125rem', py: 0.5, pr: 2 },
        '& td': { py: 0.5, pr: 2, borderTop: 1, borderColor: 'divider', verticalAlign: 'baseline', overflowWrap: 'anywhere' },
        '& .number': { textAlign: 'right' },
        // What is pressed, and a time, is one piece.
        '& td button, & td time': { whiteSpace: 'nowrap' },
      }}
    >
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.title} scope="col" className={c.number ? 'number' : ''} style={{ width: c.width }}>
              {c.title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={rowKey(row)}>
            {columns.map((c) => (
              <td key={c.title} className={c.number ? 'number' : ''}>
                {c.cell(row)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </Box>
  )
}
