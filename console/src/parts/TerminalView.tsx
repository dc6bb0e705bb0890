import { VideoCameraFilled } from "@ant-design/icons";
import { FitAddon } from "@xterm/addon-fit";
import { SearchAddon } from "@xterm/addon-search";
import { Unicode11Addon } from "@xterm/addon-unicode11";
import { WebLinksAddon } from "@xterm/addon-web-links";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { Alert, Button, Input, Space } from "antd";
import { useEffect, useEffectEvent, useRef, useState } from "react";
import { useTaste } from "./taste";
import { terminalLook } from "./terminalLook";
import * as say from "words/parts/TerminalView";

interface Place {
  life: string;
  at: number;
  taken: number;
}

/** How much may be typed ahead of a connection. */
const typedAhead = 1 << 20;

/** A random name for as long as this page looks. */
function typist() {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
}

/** What in a line of text is a file and a line of it. */
export interface TextPlace {
  from: number;
  to: number;
  path: string;
  line: number;
}

/** copy puts a text where it can be pasted from. Where a page is not let, as without https, the browser's own way is tried. */
function copy(text: string) {
  void (navigator.clipboard?.writeText(text) ?? Promise.reject(new Error())).catch(() => document.execCommand("copy"));
}

/**
 * A terminal in a workspace. It lives there, not here: leaving the page lets
 * go of it, coming back joins it where it was. When the connection breaks it
 * is made again: what was printed and typed meanwhile comes, and comes once. With a
 * reason it is an operator's own in somebody else's workspace.
 */
export function TerminalView({ workspace, label = "main", reason, places, onPlace }: { workspace: string; label?: string; reason?: string; places?: (line: string) => TextPlace[]; onPlace?: (p: TextPlace) => void }) {
  const [taste] = useTaste();
  const shown = useRef<{ terminal: Terminal; search: SearchAddon; fit: FitAddon }>(null);
  const [finding, setFinding] = useState<string>();
  const find = useEffectEvent(() => setFinding(""));
  const placesOf = useEffectEvent((line: string) => places?.(line) ?? []);
  const go = useEffectEvent((p: TextPlace) => onPlace?.(p));
  const place = useRef<HTMLDivElement>(null);
  const [note, setNote] = useState("");
  const [here, setHere] = useState<{ person: string; writes: boolean }[]>([]);
  const [recorded, setRecorded] = useState(false);
  const [round, setRound] = useState(0);
  useEffect(() => {
    const terminal = new Terminal({
      ...terminalLook,
      scrollback: 50_000,
      allowProposedApi: true, // of the widths of characters
    });
    const fit = new FitAddon();
    const search = new SearchAddon();
    terminal.loadAddon(fit);
    terminal.loadAddon(search);
    terminal.loadAddon(new Unicode11Addon());
    terminal.unicode.activeVersion = "11";
    // What a workspace prints as an address is followed by hand, with the key that a browser wants for it.
    terminal.loadAddon(new WebLinksAddon((e, uri) => (e.ctrlKey || e.metaKey) && window.open(uri, "_blank", "noopener,noreferrer")));
    terminal.registerLinkProvider({
      provideLinks(y, tell) {
        const text = terminal.buffer.active.getLine(y - 1)?.translateToString(true) ?? "";
        tell(placesOf(text).map((p) => ({ text: text.slice(p.from, p.to), range: { start: { x: p.from + 1, y }, end: { x: p.to, y } }, activate: () => go(p) })));
      },
    });
    terminal.attachCustomKeyEventHandler((e) => {
      if (e.type !== "keydown") return true;
      const key = e.key.toLowerCase();
      if (key === "f6") return false; // the way out: the page has it
      if (e.altKey && /^[0-9]$/.test(e.key)) return false;
      if (key === "c" && (e.ctrlKey || e.metaKey) && terminal.hasSelection()) {
        e.preventDefault();
        copy(terminal.getSelection());
        terminal.clearSelection();
        return false;
      }
      if (key === "v" && e.ctrlKey && e.shiftKey) return false; // the browser pastes
      if (key === "f" && e.ctrlKey && e.shiftKey) {
        e.preventDefault();
        find();
        return false;
      }
      return true;
    });
    shown.current = { terminal, search, fit };
    terminal.open(place.current!);
    terminal.textarea?.setAttribute("aria-label", say.terminal(label));
    fit.fit();
    const bytes = new TextEncoder();
    const text = new TextDecoder();
    const me = typist();
    let at: Place | undefined; // of the next byte of output
    let unsaid = new Uint8Array(); // input that was not taken, as far as is known
    let over = false;
    let wait = 500;
    let again: ReturnType<typeof setTimeout> | undefined;
    let socket: WebSocket;
    let ready = false; // what is typed may be sent: it is known what of it was taken
    const send = (kind: string, body: Uint8Array) => {
      if (socket.readyState !== WebSocket.OPEN) return;
      const frame = new Uint8Array(body.length + 1);
      frame[0] = kind.charCodeAt(0);
      frame.set(body, 1);
      socket.send(frame);
    };
    const size = () => bytes.encode(JSON.stringify({ columns: terminal.cols, rows: terminal.rows }));
    const taken = (n: number) => {
      if (!at || n <= at.taken) return;
      unsaid = unsaid.slice(Math.min(unsaid.length, n - at.taken));
      at.taken = n;
    };
    const begin = () => {
      ready = true;
      if (unsaid.length > 0) send("i", unsaid);
    };
    const connect = () => {
      // What was shown is acknowledged, so that no more comes than can be shown:
      // the program that prints waits. The service lets half a megabyte come ahead.
      let shown = 0;
      const scheme = location.protocol === "https:" ? "wss" : "ws";
      const now = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(workspace)}/session`);
      socket = now;
      now.binaryType = "arraybuffer";
      ready = false;
      now.onopen = () => {
        const back = at ? { life: at.life, from: at.at } : {};
        now.send(JSON.stringify({ terminal: label, columns: terminal.cols, rows: terminal.rows, acknowledges: true, typist: me, reason, ...back }));
      };
      now.onmessage = (e: MessageEvent<ArrayBuffer>) => {
        const frame = new Uint8Array(e.data);
        const body = frame.subarray(1);
        switch (String.fromCharCode(frame[0] ?? 0)) {
          case "o":
            if (at) at.at += body.length;
            else if (!ready) begin(); // a helper of an older release does not count
            terminal.write(body, () => {
              shown += body.length;
              if (shown >= 64 << 10 && now === socket) {
                send("a", bytes.encode(String(shown)));
                shown = 0;
              }
            });
            break;
          case "q": {
            const fresh = JSON.parse(text.decode(body)) as Place;
            if (at && fresh.at !== at.at) terminal.write(say.whatWasPrinted());
            if (at) taken(fresh.taken);
            at = fresh;
            wait = 500;
            setNote("");
            if (!ready) begin();
            break;
          }
          case "k":
            taken(Number(text.decode(body)));
            break;
          case "w": {
            const now = JSON.parse(text.decode(body)) as { lookers: { person: string; writes: boolean }[]; recorded: boolean };
            setHere(now.lookers);
            setRecorded(now.recorded);
            break;
          }
          case "x":
            over = true;
            setNote(say.theShellHasEnded());
            break;
          case "p": {
            const p = JSON.parse(text.decode(body)) as { type?: string; detail?: string; next?: string };
            if (at && p.type?.endsWith(":steward-away")) break; // it may come back
            over = true;
            setNote([p.detail, p.next].filter(Boolean).join(" "));
            break;
          }
        }
      };
      now.onclose = () => {
        if (over || now !== socket) return;
        setNote(say.theConnectionIsLost());
        again = setTimeout(connect, wait);
        wait = Math.min(2 * wait, 15_000);
      };
    };
    connect();
    const typed = terminal.onData((d) => {
      const p = bytes.encode(d);
      if (ready && !at) {
        send("i", p);
        return;
      }
      if (unsaid.length + p.length > typedAhead) return;
      const all = new Uint8Array(unsaid.length + p.length);
      all.set(unsaid);
      all.set(p, unsaid.length);
      unsaid = all;
      if (ready) send("i", p);
    });
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
      shown.current = null;
      terminal.dispose();
    };
  }, [workspace, label, reason, round]);
  useEffect(() => {
    const t = shown.current;
    if (!t) return;
    t.terminal.options.fontSize = taste.fontPixels;
    t.terminal.options.screenReaderMode = taste.reader;
    t.fit.fit();
  }, [taste.fontPixels, taste.reader, workspace, label, reason, round]);
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
              {say.openAgain()}
            </Button>
          }
        />
      )}
      {here.length > 1 && (
        <p className="quiet" role="status">
          {say.atThisTerminal()} {here.map((l) => (l.writes ? l.person : say.looks(l.person))).join(", ")}
        </p>
      )}
      {recorded && (
        <p role="status" className="recorded">
          <VideoCameraFilled /> {say.whatThisTerminalPrints()}
        </p>
      )}
      {finding !== undefined && (
        <Space className="terminal-find">
          <Input
            size="small"
            autoFocus
            aria-label={say.findInTheTerminal()}
            placeholder={say.findEnterBeforeShift()}
            value={finding}
            onChange={(e) => {
              setFinding(e.target.value);
              shown.current?.search.findPrevious(e.target.value, { incremental: true });
            }}
            onKeyDown={(e) => {
              if (e.key === "Enter") {
                if (e.shiftKey) shown.current?.search.findNext(finding);
                else shown.current?.search.findPrevious(finding);
              } else if (e.key === "Escape") {
                setFinding(undefined);
                shown.current?.terminal.focus();
              }
            }}
          />
        </Space>
      )}
      <div className="terminal-frame">
        <div ref={place} className="terminal" />
      </div>
    </>
  );
}
