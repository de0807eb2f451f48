import { Link } from '@mui/material'
import { Link as Route } from 'react-router'
import { Page } from '../parts/Page'

export function NoPlace() {
  return (
    <Page title="There is nothing here">
      <p>
        The address leads to no place of this console. <Link component={Route} to="/">Go to the images</Link>
      </p>
    </Page>
  )
}
