import { Box, Button, Link, Typography } from '@mui/material'
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

const on = (l: Line) => {
  if (!l.repository) return l.subject ?? ''
  const place = l.tag ? imagePlace(l.repository, l.tag) : repositoryPlace(l.repository)
  return (
    <Link component={Route} to={place} color="textPrimary" onClick={(e) => e.stopPropagation()}>
      {l.tag ? `${l.repository}:${l.tag}` : l.repository}
    </Link>
  )
}

const columns: Column<Line, 'change'>[] = [
  { title: 'When', width: '120px', sort: 'change', cell: (l) => <When at={l.at} /> },
  { title: 'Who', width: '190px', cell: (l) => <span title={[l.account, l.token, l.address].filter(Boolean).join(', ')}>{l.account ?? 'nobody'}{l.token && <Typography component="span" variant="body2" color="textSecondary"> by {l.token}</Typography>}</span> },
  { title: 'What', width: '150px', cell: (l) => <Typography component="span" color={l.verdict === 'refused' ? 'error' : 'inherit'}>{l.kind.replaceAll('-', ' ')}</Typography> },
  { title: 'On', width: 'minmax(180px, 1fr)', cell: on },
  { title: 'Detail', width: 'minmax(200px, 1.6fr)', cell: (l) => <span title={l.detail}>{l.detail ?? (l.digest ? l.digest.slice(7, 19) : '')}</span> },
]

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
  const list = useAudit(view)
  const { rows, paging } = useRows(list, linesOf)
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
      <Box sx={{ display: 'flex', gap: 1.5, mb: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
        <Filter label="Account" value={view.account} onChange={(v) => set('account', v)} />
        <Filter label="Namespace" value={view.namespace} onChange={(v) => set('namespace', v)} />
        <Filter label="Repository" value={view.repository} onChange={(v) => set('repository', v)} />
        <Field label="Verdict" value={view.verdict} onChange={(v) => set('verdict', v)} options={verdicts} width={170} />
        <Box sx={{ flex: 1 }} />
        <Button size="small" variant="outlined" href={`/api/v1/audit/lines?${exported.toString()}`} download="audit.jsonl">
          All as JSON lines
        </Button>
      </Box>
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Reading the audit log" error={list.error} again={() => void list.refetch()} />}
      {list.error && !me.data?.reads_audit && <Typography sx={{ mt: 1 }}>As an owner you may read that of your namespace: name it above.</Typography>}
      {list.data && rows.length === 0 && <Empty>Nothing like that is in the log.</Empty>}
      {rows.length > 0 && <RowTable label="Audit log" columns={columns} rows={rows} rowKey={(l) => String(l.id)} sort="change" {...paging} />}
    </Page>
  )
}
