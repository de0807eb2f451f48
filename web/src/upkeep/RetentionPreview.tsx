import { Box, MenuItem, TextField, Typography } from '@mui/material'
import { useMemo, useState } from 'react'
import { imagePlace } from '../api/addresses'
import type { RetentionItem, RetentionPreview } from '../api/retention'
import { Left, Size, sizeText } from '../parts/Amounts'
import { shorten } from '../parts/Digest'
import { PlainTable } from '../parts/PlainTable'
import { RowTable } from '../parts/RowTable'
import { mono } from '../theme'

const dayName = (day: { day: number; at: string }) => (day.day === 0 ? 'now' : new Date(day.at).toLocaleDateString('en', { weekday: 'short', day: 'numeric', month: 'short' }))

// Preview shows what goes when, why, and what stays by which rule.
export function Preview({ preview: p, draft }: { preview: RetentionPreview; draft: boolean }) {
  const [day, setDay] = useState('')
  const items = useMemo(() => p.items.filter((i) => day === '' || i.day === Number(day)), [p.items, day])
  const spared = draft && p.spared.length > 0
  return (
    <Box sx={{ display: 'grid', gap: 1.5 }}>
      {p.reaches === 0 && <Typography color="warning.main">They speak of no repository that is there now.</Typography>}
      {p.waits.slice(0, 4).map((w) => (
        <Typography key={w.repository + w.day} color="warning.main">In {w.repository} the rules of {w.of} would take {w.takes} of {w.out_of} things, and wait once more, for about <Left until={w.until} />.</Typography>
      ))}
      {p.stale_in_use.map((name) => (
        <Typography key={name} color="warning.main">Nobody refreshed the list {name} of what is in use, or there is none: all of its pattern stays.</Typography>
      ))}
      <Days preview={p} day={day} onDay={setDay} />
      {p.rules.length > 0 && (
        <PlainTable
          label="Rules" rows={p.rules} rowKey={(r) => r.of + r.number}
          columns={[
            { title: 'Rule', cell: (r) => <>{r.number}. <Box component="span" sx={{ fontFamily: mono, fontSize: '0.8125rem' }}>{r.words}</Box>{lists(p) > 1 && <Typography component="span" variant="body2" color="textSecondary"> {r.of}</Typography>}</> },
            { title: 'Lets go', number: true, width: 70, cell: (r) => (r.verb === 'drop' ? r.goes.toLocaleString('en') : '') },
            { title: 'Keeps', number: true, width: 70, cell: (r) => (r.verb === 'keep' ? r.keeps.toLocaleString('en') : '') },
          ]}
        />
      )}
      <Typography color="textSecondary">
        Of {p.tags.toLocaleString('en')} tags and {p.images.toLocaleString('en')} images in {p.repositories === 1 ? '1 repository' : `${p.repositories.toLocaleString('en')} repositories`}: no rule speaks of {p.undecided.toLocaleString('en')}
        {p.sealed > 0 && `, ${p.sealed} stay that are sealed`}{p.in_grace > 0 && `, ${p.in_grace} stay that were touched just now`}.
      </Typography>
      {spared && <Typography>{p.spared.length === 1 ? '1 tag' : `${p.spared.length} tags`} would stay that the rules as they are set let go: {p.spared.slice(0, 4).map((i) => `${i.repository}:${i.tag}`).join(', ')}{p.spared.length > 4 && ' …'}</Typography>}
      {p.more && <Typography color="warning.main">There is more than was looked at: look at a smaller place.</Typography>}
      {items.length > 0 && <Goes items={items} preview={p} draft={draft} />}
      {p.count > p.items.length && <Typography color="textSecondary">and {(p.count - p.items.length).toLocaleString('en')} more</Typography>}
    </Box>
  )
}

// Days is a bar for each day, as high as what goes then; one is chosen to see that alone.
function Days({ preview: p, day, onDay }: { preview: RetentionPreview; day: string; onDay: (day: string) => void }) {
  const most = Math.max(1, ...p.days.map((d) => d.tags + d.images))
  const all = p.days.reduce((sum, d) => ({ tags: sum.tags + d.tags, images: sum.images + d.images, bytes: sum.bytes + d.bytes }), { tags: 0, images: 0, bytes: 0 })
  return (
    <Box>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 0.5 }}>
        <Typography sx={{ flex: 1 }}>
          {all.tags + all.images === 0 ? 'Nothing goes within 14 days.' : `${all.tags.toLocaleString('en')} tags and ${all.images.toLocaleString('en')} images go within 14 days, which frees ${sizeText(all.bytes)} in the end.`}
        </Typography>
        <TextField select size="small" label="Day" value={day} onChange={(e) => onDay(e.target.value)} sx={{ width: 170 }} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
          <MenuItem value="">all 15 days</MenuItem>
          {p.days.map((d) => <MenuItem key={d.day} value={String(d.day)}>{dayName(d)}: {d.tags + d.images}</MenuItem>)}
        </TextField>
      </Box>
      <Box role="img" aria-label={`What goes on each day: ${p.days.filter((d) => d.tags + d.images > 0).map((d) => `${dayName(d)} ${d.tags} tags and ${d.images} images`).join(', ') || 'nothing'}`} sx={{ display: 'grid', gridTemplateColumns: 'repeat(15, 1fr)', gap: '3px', height: 48, alignItems: 'end', borderBottom: 1, borderColor: 'divider' }}>
        {p.days.map((d) => (
          <Box
            key={d.day} title={`${dayName(d)}: ${d.tags} tags, ${d.images} images, ${sizeText(d.bytes)} that nothing needs then`}
            sx={{ height: d.tags + d.images === 0 ? 0 : `${8 + (92 * (d.tags + d.images)) / most}%`, bgcolor: String(d.day) === day ? 'warning.main' : 'primary.main', borderRadius: '2px 2px 0 0' }}
          />
        ))}
      </Box>
      <Box sx={{ display: 'flex', justifyContent: 'space-between' }}>
        <Typography variant="body2" color="textSecondary">now</Typography>
        <Typography variant="body2" color="textSecondary">{dayName(p.days.at(-1)!)}</Typography>
      </Box>
    </Box>
  )
}

// lists counts the lists whose rules decide.
const lists = (p: RetentionPreview) => new Set(p.rules.map((r) => r.of)).size

function Goes({ items, preview: p, draft }: { items: RetentionItem[]; preview: RetentionPreview; draft: boolean }) {
  return (
    <Box sx={{ height: Math.min(420, 40 + items.length * 36), display: 'flex', flexDirection: 'column' }}>
      <RowTable
        label="What goes" rows={items} rowKey={(i) => `${i.repository}:${i.tag ?? i.digest} on ${i.day}`} sort="day"
        place={(i) => imagePlace(i.repository, i.tag ?? i.digest)}
        columns={[
          { title: 'When', width: '84px', cell: (i) => dayName(p.days[i.day]!) },
          { title: 'What', width: 'minmax(0, 2fr)', cell: (i) => <span title={i.digest}>{i.repository}{i.tag ? `:${i.tag}` : ` ${shorten(i.digest)}`}{draft && i.new && <Typography component="span" color="warning.main"> new</Typography>}</span> },
          { title: 'Size', width: '80px', number: true, cell: (i) => (i.with_image ? <Size bytes={i.size} /> : <span title="Something else keeps the image.">tag alone</span>) },
          { title: 'Why', width: lists(p) > 1 ? 'minmax(0, 1fr)' : '64px', cell: (i) => <span title={i.why}>{i.why?.replace(lists(p) > 1 ? / says: .*/ : / of .*/, '')}</span> },
        ]}
      />
    </Box>
  )
}

