import { Box, Typography } from '@mui/material'
import { useState } from 'react'
import { useMe } from '../api/session'
import { type MadeToken, type Token, useReplaceToken, useRevokeToken, useTokens } from '../api/tokens'
import { When } from '../parts/Amounts'
import { Ask, DialogButton, Section } from '../parts/Forms'
import { type PlainColumn, PlainTable } from '../parts/PlainTable'
import { Trouble, Waiting } from '../parts/States'
import { MakeToken, OwnPassword, Secret } from './MakeToken'

const mayText = (t: Token) =>
  t.scopes.length === 0 ? 'all that the account may' : t.scopes.map((s) => `${s.pattern}: ${s.actions.join(', ')}`).join('; ')

// TokenTable lists the tokens of an account, one's own without a name.
export function TokenTable({ account, title }: { account?: string; title: string }) {
  const tokens = useTokens(account)
  const revoke = useRevokeToken()
  const replace = useReplaceToken()
  const [made, setMade] = useState<MadeToken>()
  const [password, setPassword] = useState('')
  const hasPassword = useMe().data?.has_password
  const columns: PlainColumn<Token>[] = [
    { title: 'Name', cell: (t) => <>{t.name}{t.kind === 'login' && <Typography component="span" variant="body2" color="textSecondary"> (login)</Typography>}</> },
    { title: 'May', cell: mayText },
    { title: 'Made', width: 110, cell: (t) => <When at={t.created_at} /> },
    { title: 'Ends', width: 120, cell: (t) => (t.ended ? <Typography component="span" color="error">over</Typography> : t.ends_at ? <When at={t.ends_at} /> : 'never') },
    { title: 'Used', width: 110, cell: (t) => <When at={t.used_at} /> },
    {
      title: 'Do', width: 160,
      cell: (t) => (
        <Box sx={{ display: 'flex' }}>
          <DialogButton
            quiet name="Replace" label={`Replace the token ${t.name}`} title={`Replace the token “${t.name}”?`} action="Replace it" busy={replace.isPending} error={replace.error}
            ready={password !== '' || !hasPassword}
            onDo={(done) => replace.mutate({ account, id: t.id, password: password || undefined }, { onSuccess: (m) => { setMade(m); setPassword(''); done() } })}
          >
            <Typography>It stops working now, and a new one with the same name, scopes and life is shown once.</Typography>
            {hasPassword && <OwnPassword value={password} onChange={setPassword} />}
          </DialogButton>
          <Ask
            name="Revoke" label={`Revoke the token ${t.name}`} question={`Revoke the token “${t.name}”?`} action="Revoke it" busy={revoke.isPending} error={revoke.error}
            consequence="Whoever uses it is refused from the next request on, and so is what was made by it. It cannot come back; another one can be made."
            onDo={(done) => revoke.mutate({ account, id: t.id }, { onSuccess: done })}
          />
        </Box>
      ),
    },
  ]
  return (
    <Section title={title} beside={<MakeToken account={account} onMade={setMade} />}>
      {made && <Secret made={made} />}
      {tokens.isPending && <Waiting />}
      {tokens.error && <Trouble asked="Listing the tokens" error={tokens.error} />}
      {tokens.data && tokens.data.tokens.length === 0 && <Typography color="textSecondary">No tokens yet. One for each place where it is used is best: it can then be revoked alone.</Typography>}
      {tokens.data && tokens.data.tokens.length > 0 && <PlainTable label={title} columns={columns} rows={tokens.data.tokens} rowKey={(t) => t.id} />}
    </Section>
  )
}
