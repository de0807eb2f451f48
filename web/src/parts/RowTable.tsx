import { Box, ButtonBase, Checkbox } from '@mui/material'
import { useVirtualizer } from '@tanstack/react-virtual'
import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState, useSyncExternalStore } from 'react'
import { useNavigate } from 'react-router'

export interface Column<Row, Sort extends string> {
  title: string
  // width is a track of a CSS grid.
  width: string
  number?: boolean
  sort?: Sort
  // from is how wide the window is, in CSS pixels, from which on the column is shown.
  from?: number
  cell: (row: Row) => ReactNode
}

const rowHeight = 36

function useWindowWidth(): number {
  return useSyncExternalStore(
    (changed) => {
      window.addEventListener('resize', changed)
      return () => window.removeEventListener('resize', changed)
    },
    () => window.innerWidth,
  )
}

// RowTable shows rows by the thousand: only those in sight are drawn, more are
// asked for as the end comes near, and the keys reach all of them.
export function RowTable<Row, Sort extends string>(props: {
  label: string
  columns: Column<Row, Sort>[]
  rows: Row[]
  rowKey: (row: Row) => string
  // place is where a row leads; without one rows lead nowhere.
  place?: (row: Row) => string
  // onOpen is what a row does that leads nowhere.
  onOpen?: (row: Row) => void
  // chosen are the keys of the rows that are chosen, where rows can be; the space key
  // chooses the row that has the focus.
  chosen?: ReadonlySet<string>
  onChoose?: (chosen: Set<string>) => void
  sort: Sort
  onSort?: (sort: Sort) => void
  more?: boolean
  onMore?: () => void
}) {
  const { rows } = props
  const width = useWindowWidth()
  const { chosen, onChoose } = props
  const choose = (key: string) => {
    const next = new Set(chosen)
    if (!next.delete(key)) next.add(key)
    onChoose?.(next)
  }
  const boxes: Column<Row, Sort> = {
    title: '', width: '28px',
    cell: (row) => {
      const key = props.rowKey(row)
      return (
        <Checkbox
          size="small" tabIndex={-1} checked={chosen?.has(key) ?? false} sx={{ p: 0 }} slotProps={{ input: { 'aria-label': `Choose ${key}` } }}
          onClick={(e) => e.stopPropagation()} onChange={() => choose(key)}
        />
      )
    },
  }
  const columns = [...(chosen ? [boxes] : []), ...props.columns.filter((c) => (c.from ?? 0) <= width)]
  const box = useRef<HTMLDivElement>(null)
  const [current, setCurrent] = useState(0)
  const go = useNavigate()
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12 })
  const drawn = virtual.getVirtualItems()
  const last = drawn.at(-1)?.index ?? 0
  const { more, onMore } = props
  useEffect(() => {
    if (more && last >= rows.length - 30) onMore?.()
  }, [more, onMore, last, rows.length])

  // Where the last key went, until that row has the focus: keys may come faster than frames.
  const aim = useRef<number>(undefined)
  const focusRow = (index: number) => {
    const to = Math.max(0, Math.min(rows.length - 1, index))
    aim.current = to
    setCurrent(to)
    virtual.scrollToIndex(to)
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-index="${to}"]`)?.focus())
  }
  const open = (row: Row) => {
    if (props.place) void go(props.place(row))
    else props.onOpen?.(row)
  }
  const onKey = (e: KeyboardEvent, focused: number) => {
    const index = aim.current ?? focused
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? 0) / rowHeight) - 2)
    const steps: Record<string, number> = { ArrowDown: index + 1, ArrowUp: index - 1, PageDown: index + page, PageUp: index - page, Home: 0, End: rows.length - 1 }
    const to = steps[e.key]
    if (to !== undefined) {
      e.preventDefault()
      focusRow(to)
    }
    if (e.key === ' ' && chosen && e.target === e.currentTarget) {
      e.preventDefault()
      choose(props.rowKey(rows[Math.min(index, rows.length - 1)]!))
    }
    if (e.key === 'Enter' && e.target === e.currentTarget) open(rows[Math.min(index, rows.length - 1)]!)
  }
  const grid = { display: 'grid', gridTemplateColumns: columns.map((c) => c.width).join(' '), columnGap: 2.5, px: 2, alignItems: 'center' } as const
  return (
    <Box
      ref={box}
      role="table"
      aria-label={props.label}
      aria-rowcount={props.more ? -1 : rows.length + 1}
      sx={{ border: 1, borderColor: 'divider', borderRadius: 1, bgcolor: 'background.paper', overflow: 'auto', flex: 1, minHeight: 160 }}
    >
      <Box role="rowgroup" sx={{ position: 'sticky', top: 0, zIndex: 1, bgcolor: 'background.paper', borderBottom: 1, borderColor: 'divider' }}>
        <Box role="row" aria-rowindex={1} sx={{ ...grid, height: rowHeight, color: 'text.secondary', fontSize: '0.8125rem' }}>
          {columns.map((c) => (
            <Box key={c.title} role="columnheader" aria-sort={c.sort === undefined ? undefined : c.sort === props.sort ? (c.sort === 'change' ? 'descending' : 'ascending') : 'none'} sx={{ textAlign: c.number ? 'right' : 'left' }}>
              {c.sort === undefined ? (
                c.title || <Box component="span" sx={{ position: 'absolute', left: -999 }}>Chosen</Box>
              ) : (
                <ButtonBase onClick={() => props.onSort?.(c.sort!)} sx={{ font: 'inherit', '&:hover': { color: 'text.primary' } }}>
                  {c.title}
                  <Box component="span" aria-hidden sx={{ ml: 0.5, visibility: c.sort === props.sort ? 'visible' : 'hidden' }}>
                    {c.sort === 'change' ? '↓' : '↑'}
                  </Box>
                </ButtonBase>
              )}
            </Box>
          ))}
        </Box>
      </Box>
      <Box role="rowgroup" sx={{ height: virtual.getTotalSize(), position: 'relative' }}>
        {drawn.map((item) => {
          const row = rows[item.index]!
          return (
            <Box
              key={props.rowKey(row)}
              role="row"
              aria-rowindex={item.index + 2}
              data-index={item.index}
              tabIndex={item.index === Math.min(current, rows.length - 1) ? 0 : -1}
              onFocus={() => {
                aim.current = undefined
                setCurrent(item.index)
              }}
              onKeyDown={(e) => onKey(e, item.index)}
              onClick={() => open(row)}
              sx={{
                ...grid, position: 'absolute', top: 0, left: 0, right: 0, height: rowHeight, transform: `translateY(${item.start}px)`, cursor: props.place || props.onOpen ? 'pointer' : 'default',
                borderBottom: 1, borderColor: 'divider', '&:hover': { bgcolor: 'action.hover' }, '&:focus-visible': { outlineOffset: -2 },
              }}
            >
              {columns.map((c) => (
                <Box key={c.title} role="cell" sx={{ textAlign: c.number ? 'right' : 'left', overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' }}>
                  {c.cell(row)}
                </Box>
              ))}
            </Box>
          )
        })}
      </Box>
    </Box>
  )
}
