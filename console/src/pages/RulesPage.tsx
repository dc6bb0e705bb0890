import { yaml } from "@codemirror/lang-yaml";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { oneDark } from "@codemirror/theme-one-dark";
import { EditorView } from "@codemirror/view";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Input, Space, Table, Tooltip } from "antd";
import { basicSetup } from "codemirror";
import { useEffect, useRef, useState } from "react";
import { api, take, type Person, type Rules } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { exact, when } from "../parts/time";
import { useDone } from "../parts/useDone";
import { useDark } from "../theme";
import { useSettled } from "../parts/useSettled";

/** The house rules: the document in force, checked while it is written, and its versions. */
export function RulesPage({ person }: { person: Person }) {
  const { modal } = App.useApp();
  const operator = person.role === "operator";
  const versions = useQuery({ queryKey: ["rules"], queryFn: () => take(api.GET("/api/v1/rules")) });
  const [shown, setShown] = useState<Rules>();
  const [text, setText] = useState<string>();
  const current = versions.data?.[0];
  const base = shown ?? current;
  const draft = text ?? base?.document ?? "";
  const settled = useSettled(draft);
  const check = useQuery({
    queryKey: ["rules", "check", settled],
    queryFn: () => take(api.POST("/api/v1/rules/check", { body: { document: settled } })),
    enabled: settled !== "" && settled !== current?.document,
    placeholderData: (old) => old,
  });
  const { onSettled, onError } = useDone("rules", "workspaces", "cost");
  const put = useMutation({
    mutationFn: (reason: string) => take(api.PUT("/api/v1/rules", { body: { document: draft, reason, base: current?.version } })),
    onSettled,
    onError,
    onSuccess: () => {
      setText(undefined);
      setShown(undefined);
    },
  });
  const changed = draft !== (current?.document ?? "");
  const findings = changed ? (check.data?.findings ?? []) : [];
  const changes = changed ? (check.data?.changes ?? []) : [];
  const ask = () => {
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
      onOk: () => put.mutateAsync(reason).catch(() => undefined),
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
                <Button
                  onClick={() => {
                    setText(undefined);
                    setShown(undefined);
                  }}
                >
                  Back to those in force
                </Button>
              )}
              <Button type="primary" disabled={!changed || findings.length > 0 || changes.length === 0} onClick={ask}>
                Put in force
              </Button>
            </Space>
          )
        }
      >
        {base && (
          <span className="quiet">
            version {base.version}, by {base.author}, {when(base.at)}
            {base === current ? ", in force" : ""}
          </span>
        )}
      </PageHead>
      <ProblemNote error={versions.error} />
      <div className="beside wide">
        <div>
          {base && <Editor key={base.version + String(text === undefined)} document={draft} readOnly={!operator} findings={findings} onChange={setText} />}
          {findings.map((f) => (
            <Alert key={`${f.line}:${f.column}${f.what}`} type="error" showIcon style={{ marginTop: 6 }} title={`Line ${f.line}, column ${f.column}: ${f.what}`} description={f.fix} />
          ))}
          {changed && findings.length === 0 && check.data && (
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
        <Table<Rules>
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
                  <Button
                    type="link"
                    size="small"
                    style={{ padding: 0 }}
                    onClick={() => {
                      setShown(v);
                      setText(v === current ? undefined : v.document);
                    }}
                  >
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
    </>
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
        extensions: [basicSetup, dark ? oneDark : [], yaml(), lintGutter(), EditorState.readOnly.of(readOnly), EditorView.contentAttributes.of({ "aria-label": "House rules" }), EditorView.updateListener.of((u) => u.docChanged && onChange(u.state.doc.toString()))],
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
