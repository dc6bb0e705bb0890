import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { Alert, Button } from "antd";
import { useEffect, useRef, useState } from "react";

/**
 * A terminal in a workspace. It lives there, not here: leaving the page lets
 * go of it, coming back joins it where it was.
 */
export function TerminalView({ workspace }: { workspace: string }) {
  const place = useRef<HTMLDivElement>(null);
  const [note, setNote] = useState("");
  const [round, setRound] = useState(0);
  const wait = useRef(500); // until the next try
  useEffect(() => {
    const terminal = new Terminal({
      fontFamily: "'DejaVu Sans Mono', ui-monospace, monospace",
      fontSize: 13,
      scrollback: 10_000,
      theme: { background: "#10202f", foreground: "#e9e4d8", cursor: "#e8855a" },
    });
    const fit = new FitAddon();
    terminal.loadAddon(fit);
    terminal.open(place.current!);
    fit.fit();
    // What was shown is acknowledged, so that no more comes than can be shown:
    // the program that prints waits. The service lets half a megabyte come ahead.
    let shown = 0;
    const took = (n: number) => {
      shown += n;
      if (shown >= 64 << 10) {
        send("a", String(shown));
        shown = 0;
      }
    };
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const socket = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(workspace)}/session`);
    socket.binaryType = "arraybuffer";
    const bytes = new TextEncoder();
    const send = (kind: string, body: string) => {
      if (socket.readyState === WebSocket.OPEN) socket.send(bytes.encode(kind + body));
    };
    const size = () => JSON.stringify({ columns: terminal.cols, rows: terminal.rows });
    let over = false;
    let again: ReturnType<typeof setTimeout> | undefined;
    socket.onopen = () => {
      wait.current = 500;
      setNote("");
      socket.send(JSON.stringify({ columns: terminal.cols, rows: terminal.rows, acknowledges: true }));
    };
    socket.onmessage = (e: MessageEvent<ArrayBuffer>) => {
      const frame = new Uint8Array(e.data);
      const body = frame.subarray(1);
      switch (String.fromCharCode(frame[0] ?? 0)) {
        case "o":
          terminal.write(body, () => took(body.length));
          break;
        case "x":
          over = true;
          setNote("The shell has ended.");
          break;
        case "p": {
          over = true;
          const p = JSON.parse(new TextDecoder().decode(body)) as { detail?: string; next?: string };
          setNote([p.detail, p.next].filter(Boolean).join(" "));
          break;
        }
      }
    };
    socket.onclose = () => {
      if (over) return;
      setNote("The connection is lost. What runs in the terminal goes on; it is being connected again.");
      again = setTimeout(() => setRound((n) => n + 1), wait.current);
      wait.current = Math.min(2 * wait.current, 15_000);
    };
    const typed = terminal.onData((d) => send("i", d));
    const resized = terminal.onResize(() => send("r", size()));
    const watch = new ResizeObserver(() => fit.fit());
    watch.observe(place.current!);
    terminal.focus();
    return () => {
      over = true;
      clearTimeout(again);
      watch.disconnect();
      typed.dispose();
      resized.dispose();
      socket.close();
      terminal.dispose();
    };
  }, [workspace, round]);
  return (
    <>
      {note && (
        <Alert
          style={{ marginBottom: 8 }}
          type="warning"
          showIcon
          title={note}
          action={
            <Button
              size="small"
              onClick={() => {
                setNote("");
                setRound(round + 1);
              }}
            >
              Open again
            </Button>
          }
        />
      )}
      <div className="terminal-frame">
        <div ref={place} className="terminal" />
      </div>
    </>
  );
}
