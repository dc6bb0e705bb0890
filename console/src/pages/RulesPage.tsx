import { yaml } from "@codemirror/lang-yaml";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Input, Space, Table, Tooltip } from "antd";
import { basicSetup } from "codemirror";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, take, type Opening, type Person, type RulesVersion, whole } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, when } from "../parts/time";
import { useDone } from "../parts/useDone";
import { editorLook } from "../parts/editorLook";
import { palette, useDark } from "../palette";
import { useSettled } from "../parts/useSettled";

const nobody: { line: number; column: number; what: string; fix?: string }[] = [];

/** Draft is what somebody writes, and the version it is made from: both are taken at the first change. began is the version they began with, whatever it is held against later. */
type Draft = { document: string; base: number; began: number };

// A draft outlives a look at another page; what closes the window asks first.
let kept: Draft | undefined;

/** The house rules: the document in force, checked while it is written, and its versions. */
export function RulesPage({ person }: { person: Person }) {
  const { modal } = App.useApp();
  const operator = person.role === "operator";
  const versions = useQuery({ queryKey: ["rules"], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/rules", { signal, params: { query: page } })) });
  const [draft, setDraft] = useState(kept);
  const [begun, setBegun] = useState(0); // counts what the editor began with
  const inForce = useQuery({ queryKey: ["rules", "in force"], queryFn: ({ signal }) => take(api.GET("/api/v1/rules/{version}", { signal, params: { path: { version: 0 } } })) });
  const current = inForce.data;
  const base = draft ? (versions.data?.find((v) => v.version === draft.base) ?? current) : current;
  useEffect(() => {
    kept = draft;
    if (!draft) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [draft]);
  const settled = useSettled(draft?.document ?? "");
  const changed = draft !== undefined && draft.document !== current?.document;
  const check = useQuery({
    queryKey: ["rules", "check", settled],
    queryFn: ({ signal }) => take(api.POST("/api/v1/rules/check", { signal, body: { document: settled } })),
    enabled: changed && settled !== "",
  });
  // Only what was said of the very text that stands there counts.
  const said = changed && settled === draft.document ? check.data : undefined;
  const { onSettled, onError } = useDone("rules", "workspaces", "cost");
  const begin = (d?: Draft) => {
    setDraft(d);
    setBegun((n) => n + 1);
  };
  const put = useMutation({
    mutationFn: (f: { draft: Draft; reason: string }) => take(api.PUT("/api/v1/rules", { params: { header: { "If-Match": `"v${f.draft.base}"` } }, body: { document: f.draft.document, reason: f.reason } })),
    onSettled,
    onError,
    onSuccess: () => begin(undefined),
  });
  const look = useMutation({
    mutationFn: (version: number) => take(api.GET("/api/v1/rules/{version}", { params: { path: { version } } })),
    onError,
    onSuccess: (v) => begin(v.version === current?.version || !current ? undefined : { document: v.document, base: current.version, began: current.version }),
  });
  const write = useCallback(
    (document: string) => setDraft((d) => ({ document, base: d?.base ?? current?.version ?? 0, began: d?.began ?? current?.version ?? 0 })),
    [current?.version],
  );
  const findings = said?.findings ?? nobody;
  const changes = said?.changes ?? [];
  const behind = changed && current !== undefined && draft.base !== current.version;
  const ask = () => {
    if (!draft || !said) return;
    const asked = draft; // what is confirmed is what is sent
    let reason = "";
    modal.confirm({
      title: "Put these house rules in force?",
      icon: null,
      width: 560,
      content: (
        <>
          {changes.map((c) => (
            <div key={c}>{c}</div>
          ))}
          <Input style={{ marginTop: 12 }} autoFocus aria-label="Reason" placeholder="Why: it stands in the journal" onChange={(e) => (reason = e.target.value)} />
        </>
      ),
      okText: "In force at once",
      onOk: () => put.mutateAsync({ draft: asked, reason }).catch(() => undefined),
    });
  };
  return (
    <>
      <PageHead
        title="House rules"
        action={
          operator && (
            <Space>
              {changed && (
                <Button onClick={() => begin(undefined)}>Back to those in force</Button>
              )}
              <Button type="primary" loading={changed && !said && !check.error} disabled={!said || behind || findings.length > 0 || changes.length === 0} onClick={ask}>
                Put in force
              </Button>
            </Space>
          )
        }
      >
        {base && (
          <span className="quiet">
            {changed ? "made from " : ""}version {base.version}, by {base.author}, {when(base.at)}
            {base.version === current?.version ? ", in force" : ""}
          </span>
        )}
      </PageHead>
      <ProblemNote error={versions.error ?? inForce.error ?? check.error} />
      {behind && draft && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 12 }}
          title={`Version ${current.version} was put meanwhile by ${current.author}: ${current.reason}. Yours was made from version ${draft.base}.`}
          description={
            <>
              {versions.data
                ?.filter((v) => v.version > draft.base)
                .flatMap((v) => v.changes)
                .map((c) => <div key={c}>{c}</div>)}
              Take what is wanted of that into yours; what it would change is then told against version {current.version}.
            </>
          }
          action={
            <Button size="small" onClick={() => setDraft({ ...draft, base: current.version })}>
              I have looked: go on from version {current.version}
            </Button>
          }
        />
      )}
      <div className="beside wide">
        <div>
          {current && <Editor key={`${draft?.began ?? current.version} ${begun}`} document={draft?.document ?? current.document} readOnly={!operator} findings={findings} onChange={write} />}
          {findings.map((f) => (
            <Alert key={`${f.line}:${f.column}${f.what}`} type="error" showIcon style={{ marginTop: 6 }} title={`Line ${f.line}, column ${f.column}: ${f.what}`} description={f.fix} />
          ))}
          {said && findings.length === 0 && (
            <Alert
              type={changes.length ? "info" : "warning"}
              style={{ marginTop: 6 }}
              title={changes.length ? "It would change:" : "It changes nothing."}
              description={changes.map((c) => (
                <div key={c}>{c}</div>
              ))}
            />
          )}
        </div>
        <Table<RulesVersion>
          size="small"
          rowKey="version"
          pagination={false}
          scroll={{ y: 560 }}
          loading={versions.isPending}
          dataSource={versions.data}
          columns={[
            {
              title: "Versions",
              render: (_, v) => (
                <>
                  <Button type="link" size="small" style={{ padding: 0 }} onClick={() => look.mutate(v.version)}>
                    Version {v.version}
                  </Button>
                  , <Tooltip title={exact(v.at)}>{when(v.at)}</Tooltip>, {v.author}
                  <div>{v.reason}</div>
                  {v.changes.map((c) => (
                    <div key={c} className="quiet small">
                      {c}
                    </div>
                  ))}
                </>
              ),
            },
          ]}
        />
      </div>
      {operator && <WhatIsOpen inForce={current?.version} />}
    </>
  );
}

/** What of the installation is open, and how each is closed. */
function WhatIsOpen({ inForce }: { inForce?: number }) {
  const open = useQuery({ queryKey: ["openings", inForce], queryFn: ({ signal }) => whole((page) => api.GET("/api/v1/openings", { signal, params: { query: page } })) });
  return (
    <section aria-label="What is open" style={{ marginTop: 24 }}>
      <h2>What is open</h2>
      <ProblemNote error={open.error} />
      <Table<Opening>
        size="small"
        rowKey={(o) => o.kind + o.what}
        pagination={false}
        loading={open.isPending}
        dataSource={open.data}
        columns={[
          { title: "Of", dataIndex: "area", width: 120 },
          { title: "What is open", dataIndex: "what" },
          { title: "How it is closed", dataIndex: "close" },
        ]}
      />
    </section>
  );
}

/** The document, with what is wrong with it marked where it stands. */
function Editor({ document, readOnly, findings, onChange }: { document: string; readOnly: boolean; findings: { line: number; column: number; what: string; fix?: string }[]; onChange: (text: string) => void }) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const [first] = useState(document);
  const dark = useDark();
  useEffect(() => {
    const v = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        doc: first,
        extensions: [basicSetup, editorLook(dark ? palette.dark : palette.light, dark), yaml(), lintGutter(), EditorState.readOnly.of(readOnly), EditorView.contentAttributes.of({ "aria-label": "House rules", tabindex: "0" }), EditorView.updateListener.of((u) => u.docChanged && onChange(u.state.doc.toString()))],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, [first, readOnly, onChange, dark]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const diagnostics = findings.map((f) => {
      const line = v.state.doc.line(Math.min(Math.max(1, f.line), v.state.doc.lines));
      const from = Math.min(line.to, line.from + Math.max(0, f.column - 1));
      return { from, to: Math.max(from, line.to), severity: "error" as const, message: f.fix ? `${f.what}; ${f.fix}` : f.what };
    });
    v.dispatch(setDiagnostics(v.state, diagnostics));
  }, [findings]);
  return <div ref={place} className="editor" />;
}
