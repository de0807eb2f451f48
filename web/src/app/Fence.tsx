import { Component, type ReactNode } from 'react'
import { Page } from '../parts/Page'
import { Trouble } from '../parts/States'

// Fence keeps a fault of one place from taking the whole console down.
export class Fence extends Component<{ children: ReactNode }, { fault?: Error }> {
  state: { fault?: Error } = {}

  static getDerivedStateFromError(fault: Error) {
    return { fault }
  }

  render() {
    if (!this.state.fault) return this.props.children
    return (
      <Page title="This place is broken">
        <Trouble asked="Showing this place" error={this.state.fault} again={() => this.setState({ fault: undefined })} />
      </Page>
    )
  }
}
