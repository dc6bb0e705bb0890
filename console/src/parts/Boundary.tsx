import { Component, type ReactNode } from "react";
import { renewed } from "../service/session";
import * as say from "words/parts/Boundary";

interface State {
  error?: Error;
  newer?: boolean;
}

/**
 * Boundary keeps what goes wrong in a page within it. The usual case is a page
 * of another release: its script is gone once the service is renewed. It stands on
 * nothing but itself, for what it tells of may be missing.
 */
export class Boundary extends Component<{ children: ReactNode }, State> {
  override state: State = {};

  static getDerivedStateFromError(error: Error): State {
    return { error };
  }

  override componentDidCatch() {
    void renewed().then((newer) => this.setState({ newer }));
  }

  override render() {
    const { error, newer } = this.state;
    if (!error) return this.props.children;
    return (
      <div className="refused" role="alert">
        <h2>{newer ? say.aNewerReleaseOf() : say.thisPageCouldNot()}</h2>
        <p>{newer ? say.loadItToGo() : error.message}</p>
        <div className="lines">
          <button type="button" onClick={() => location.reload()}>
            {newer ? say.loadIt() : say.loadItAgain()}
          </button>
        </div>
      </div>
    );
  }
}
