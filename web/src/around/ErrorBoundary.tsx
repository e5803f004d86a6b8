import { Component, type ReactNode } from "react";
import { button } from "../parts/Field";

interface State {
  error: Error | null;
}

/** When a part of the page fails, it says so, and the rest stays. */
export class ErrorBoundary extends Component<{ children: ReactNode }, State> {
  override state: State = { error: null };

  static getDerivedStateFromError(error: Error): State {
    return { error };
  }

  override render() {
    const { error } = this.state;
    if (!error) return this.props.children;
    const old = /dynamically imported module|Failed to fetch/.test(error.message);
    return (
      <div role="alert" className="mt-6 max-w-prose">
        <h1 className="text-xl font-semibold">{old ? "The console was renewed" : "This page failed"}</h1>
        <p className="mt-2">
          {old
            ? "The service has another version of the console than this tab, or cannot be reached. Loading it anew helps."
            : `What it says: ${error.message}. The readings are not touched by that.`}
        </p>
        <div className="mt-3 flex gap-2">
          <button type="button" className={button} onClick={() => location.reload()}>
            Reload
          </button>
          {!old && (
            <button type="button" className={button} onClick={() => this.setState({ error: null })}>
              Try again
            </button>
          )}
        </div>
      </div>
    );
  }
}
