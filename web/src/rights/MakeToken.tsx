import { Box, Checkbox, FormControlLabel, Typography } from '@mui/material'
import { useState } from 'react'
import { useMe } from '../api/session'
import { type MadeToken, useMakeToken } from '../api/tokens'
import { CommandLine } from '../parts/Commands'
import { DialogButton, Field } from '../parts/Forms'
import { useService } from '../api/service'

const actions = [
  { name: 'pull', about: 'pull' },
  { name: 'push', about: 'push' },
  { name: 'delete', about: 'delete' },
  { name: 'manage', about: 'change members and settings' },
]

export const lives = [
  { value: '7', name: '7 days' },
  { value: '30', name: '30 days' },
  { value: '90', name: '90 days' },
  { value: '365', name: '1 year' },
  { value: '0', name: 'without end' },
]

// Secret shows a new token, this once.
export function Secret({ made }: { made: MadeToken }) {
  const service = useService()
  return (
    <Box role="status" sx={{ border: 1, borderColor: 'primary.main', borderRadius: 1, p: 2, mb: 2, display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 1 }}>
      <Typography sx={{ fontWeight: 600 }}>The token “{made.name}” of {made.account}. It is shown this once: copy it now.</Typography>
      <CommandLine command={made.secret} />
      <CommandLine label="Log in with it" command={`warthesis login ${service.data?.address ?? ''} --account ${made.account}`} />
      <Typography variant="body2" color="textSecondary">Logging in asks for the token: paste it there, so that it stays out of the shell’s history.</Typography>
    </Box>
  )
}

// OwnPassword proves who asks, so that what is made may outlast the session.
export function OwnPassword({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  return <Field label="Your password" type="password" value={value} onChange={onChange} hint="It proves that it is you who asks: the token will last longer than this session." />
}

export function MakeToken({ account, onMade }: { account?: string; onMade: (made: MadeToken) => void }) {
  const [name, setName] = useState('')
  const [pattern, setPattern] = useState('')
  const [may, setMay] = useState<string[]>(['pull'])
  const [days, setDays] = useState('90')
  const [password, setPassword] = useState('')
  const me = useMe()
  const make = useMakeToken()
  const toggle = (action: string) => setMay((old) => (old.includes(action) ? old.filter((a) => a !== action) : [...old, action]))
  return (
    <DialogButton
      name="Make a token" title={account ? `Make a token for ${account}` : 'Make a token'} action="Make it" busy={make.isPending} error={make.error}
      ready={name !== '' && pattern !== '' && may.length > 0 && (password !== '' || !me.data?.has_password)}
      onDo={(close) =>
        make.mutate(
          { account, name, days: Number(days), scopes: [{ pattern, actions: may }], password: password || undefined },
          { onSuccess: (made) => { close(); setName(''); setPassword(''); onMade(made) } },
        )
      }
    >
      <Field label="Name" value={name} onChange={setName} hint="Where it will be used, such as “build pipeline of seatmap”" autoFocus />
      <Field label="Repositories" value={pattern} onChange={setPattern} hint="One name, or a pattern: berths/seatmap, berths/*, *" />
      <Box role="group" aria-label="What it may do">
        {actions.map((a) => (
          <FormControlLabel key={a.name} label={a.about} control={<Checkbox size="small" checked={may.includes(a.name)} onChange={() => toggle(a.name)} />} />
        ))}
      </Box>
      <Field label="Good for" value={days} onChange={setDays} options={lives} />
      {me.data?.has_password && <OwnPassword value={password} onChange={setPassword} />}
      <Typography variant="body2" color="textSecondary">
        A token never may more than the account that it belongs to.{' '}
        {me.data && !me.data.has_password && 'Made more than ten minutes after you signed in, it ends with this session: sign in anew for a longer one.'}
      </Typography>
    </DialogButton>
  )
}
