import { Alert, Button } from "antd";
import { Component, type ReactNode } from "react";

/**
 * Boundary keeps what goes wrong in a page within it. The usual case is a page
 * of another release: its script is gone once the service is renewed.
 */
export class Boundary extends Component<{ children: ReactNode }, { error?: Error }> {
  override state: { error?: Error } = {};

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    const renewed = /import|module|chunk|fetch/i.test(error.message);
    return (
      <Alert
        type={renewed ? "info" : "error"}
        showIcon
        title={renewed ? "A newer release of the console is served." : "This page could not be shown."}
        description={renewed ? "Load it to go on; nothing that was sent is lost." : error.message}
        action={
          <Button type="primary" onClick={() => location.reload()}>
            Load it
          </Button>
        }
      />
    );
  }
}
