import { Component, type ReactNode } from "react";
import { useLocation } from "react-router";
import { Page } from "./page";

/** Keeps the rest of the application usable where one page fails; another address tries again. */
export function ErrorBoundary({ children }: { children: ReactNode }) {
  return <Boundary at={useLocation().pathname}>{children}</Boundary>;
}

class Boundary extends Component<{ at: string; children: ReactNode }, { failed: string; at: string }> {
  override state = { failed: "", at: "" };

  static getDerivedStateFromError(e: Error) {
    return { failed: e.message || "unknown error", at: location.pathname };
  }

  override render() {
    if (!this.state.failed || this.state.at !== this.props.at) return this.props.children;
    return (
      <Page title="This page failed">
        <p role="alert">
          Something went wrong while this page was drawn. What you saved is kept. Reload the page; if it fails again,
          tell the person who runs this server: {this.state.failed}
        </p>
        <button type="button" className="btn mt-3" onClick={() => location.reload()}>
          Reload the page
        </button>
      </Page>
    );
  }
}
