import { Box, Button, Link, Paper, Typography } from '@mui/material'
import { useMemo, useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace, repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useRows } from '../api/asking'
import { type AuditView, type Line, useAudit } from '../api/audit'
import { useMe } from '../api/session'
import { When } from '../parts/Amounts'
import { Filter } from '../parts/Filter'
import { Field } from '../parts/Forms'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { type Act, actsOf, detailOf, tagsOf, whatOf } from './acts'

// Row is an act, or a line inside one that was opened.
interface Row {
  key: string
  line: Line
  act?: Act
  open?: boolean
}

const on = ({ line: l, act }: Row) => {
  if (!l.repository) return l.subject ?? ''
  const tags = act ? tagsOf(act) : []
  const tag = act && act.inside.length > 1 ? (tags.length === 1 ? tags[0] : undefined) : l.tag
  const place = tag ? imagePlace(l.repository, tag) : l.digest ? imagePlace(l.repository, l.digest) : repositoryPlace(l.repository)
  return (
    <Link component={Route} to={place} color="textPrimary" onClick={(e) => e.stopPropagation()}>
      {tag ? `${l.repository}:${tag}` : l.repository}
    </Link>
  )
}

const columns: Column<Row, 'change'>[] = [
  { title: 'When', width: '100px', sort: 'change', cell: ({ line, act }) => act && <When at={line.at} /> },
  {
    title: 'Who', width: 'minmax(120px, 0.9fr)',
    cell: ({ line: l, act }) => act && <span title={[l.account, l.token, l.address].filter(Boolean).join(', ')}>{l.account ?? 'nobody'}{l.token && <Typography component="span" variant="body2" color="textSecondary"> by {l.token}</Typography>}</span>,
  },
  {
    title: 'What', width: 'minmax(105px, 150px)',
    cell: ({ line, act, open }) => (
      <Typography component="span" color={line.verdict === 'refused' ? 'error' : act ? 'inherit' : 'textSecondary'}>
        {act && act.inside.length > 1 && <span aria-hidden>{open ? '▾ ' : '▸ '}</span>}
        {act ? whatOf(act) : line.kind.replaceAll('-', ' ')}
      </Typography>
    ),
  },
  { title: 'On', width: 'minmax(120px, 1fr)', cell: on },
  {
    title: 'Detail', width: 'minmax(100px, 1.5fr)',
    cell: ({ line, act }) => {
      const said = act ? detailOf(act) : [line.tag, line.digest?.slice(7, 19), line.detail].filter(Boolean).join(' · ')
      return <span title={said}>{said}</span>
    },
  },
]

// rowsOf lays the lines of opened acts below them.
const rowsOf = (acts: Act[], opened: Set<string>): Row[] =>
  acts.flatMap((act) => {
    const open = opened.has(act.key)
    const head: Row = { key: act.key, line: act.line, act, open }
    return open ? [head, ...act.inside.map((line) => ({ key: `${act.key}/${line.id}`, line }))] : [head]
  })

const linesOf = (page: Schemas['LineList']) => page.lines

const verdicts = [
  { value: '', name: 'done and refused' },
  { value: 'done', name: 'done' },
  { value: 'refused', name: 'refused' },
]

const fields = ['account', 'namespace', 'repository', 'kind', 'verdict'] as const

export function ActivityPage() {
  const me = useMe()
  const [asked, ask] = useSearchParams()
  const view = Object.fromEntries(fields.map((f) => [f, asked.get(f) ?? ''])) as unknown as AuditView
  const owned = (me.data?.roles ?? []).filter((r) => r.role === 'owner' && r.place !== '' && !r.place.includes('/')).map((r) => r.place)
  const sees = me.data !== undefined && (me.data.reads_audit || owned.includes(view.namespace))
  const list = useAudit(view, sees)
  const { rows: lines, paging } = useRows(list, linesOf)
  const [opened, setOpened] = useState(() => new Set<string>())
  const rows = useMemo(() => rowsOf(actsOf(lines), opened), [lines, opened])
  const toggle = ({ act }: Row) => {
    if (!act || act.inside.length === 1) return
    setOpened((old) => {
      const next = new Set(old)
      if (!next.delete(act.key)) next.add(act.key)
      return next
    })
  }
  const set = (field: (typeof fields)[number], value: string) =>
    ask((old) => {
      const params = new URLSearchParams(old)
      if (value === '') params.delete(field)
      else params.set(field, value)
      return params
    }, { replace: true })
  const exported = new URLSearchParams(asked)
  exported.delete('open')
  return (
    <Page
      title="Activity" fill
      beside={<Typography color="textSecondary">who did what, and what was refused</Typography>}
    >
      <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(3, minmax(0, 200px)) 160px 1fr', gap: 1.5, mb: 1.5, alignItems: 'center' }}>
        <Filter inForm label="Account" value={view.account} onChange={(v) => set('account', v)} />
        <Filter inForm label="Namespace" value={view.namespace} onChange={(v) => set('namespace', v)} />
        <Filter inForm label="Repository" value={view.repository} onChange={(v) => set('repository', v)} />
        <Field label="Verdict" value={view.verdict} onChange={(v) => set('verdict', v)} options={verdicts} width={160} />
        <Button size="small" variant="outlined" disabled={!sees} sx={{ justifySelf: 'end', whiteSpace: 'nowrap' }} href={`/api/v1/audit/lines?${exported.toString()}`} download="audit.jsonl">
          All as JSON lines
        </Button>
      </Box>
      {me.data && !sees && <Ask owned={[...new Set(owned)]} onPick={(namespace) => set('namespace', namespace)} />}
      {sees && list.isPending && <Waiting />}
      {list.error && <Trouble asked="Reading the audit log" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Empty>Nothing like that is in the log.</Empty>}
      {rows.length > 0 && <RowTable label="Audit log" columns={columns} rows={rows} rowKey={(r) => r.key} onOpen={toggle} sort="change" {...paging} />}
    </Page>
  )
}

// Ask lets owners pick one of their namespaces, whose log they may read.
function Ask({ owned, onPick }: { owned: string[]; onPick: (namespace: string) => void }) {
  if (owned.length === 0) return <Empty>The audit log is read by auditors and admins of the registry, and that of a namespace by its owners.</Empty>
  return (
    <Paper sx={{ p: 3 }}>
      <Typography sx={{ mb: 1.5 }}>As an owner you may read the log of your namespaces. Which one?</Typography>
      <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
        {owned.map((n) => <Button key={n} size="small" variant="outlined" onClick={() => onPick(n)}>{n}</Button>)}
      </Box>
    </Paper>
  )
}
