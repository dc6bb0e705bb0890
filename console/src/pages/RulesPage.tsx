import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, App, Button, Input, Segmented, Select, Space, Table, Tooltip } from "antd";
import { useCallback, useEffect, useState } from "react";
import { type RulesVersion, type Me, may } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { RulesForm } from "../parts/RulesForm";
import { RulesEditor, SideBySide } from "../parts/RulesText";
import { oneOf, useAddress } from "../parts/search";
import { exact, when } from "words/times";
import { useDone } from "../parts/useDone";
import { useSettled } from "../parts/useSettled";
import { WhatIsOpen } from "../parts/WhatIsOpen";
import { check as checkOf, put as putRules, version as versionOf, versions as all } from "../service/rules";
import * as say from "words/pages/RulesPage";

const views = ["text", "common", "beside"] as const;
type View = (typeof views)[number];

const nobody: { line: number; column: number; what: string; fix?: string }[] = [];

/** Draft is what somebody writes, and the version it is made from: both are taken at the first change. began is the version they began with, whatever it is held against later. */
type Draft = { document: string; base: number; began: number };

// A draft outlives a look at another page; what closes the window asks first.
let kept: Draft | undefined;

/** The house rules: the document in force, checked while it is written, and its versions. */
export function RulesPage({ person }: { person: Me }) {
  const { modal } = App.useApp();
  const changeable = may(person, "rules.change");
  const [get, set] = useAddress();
  const view = oneOf(get("view"), views, "text");
  const versions = useQuery(all);
  const [draft, setDraft] = useState(kept);
  const [begun, setBegun] = useState(0); // counts what the editor began with
  const inForce = useQuery(versionOf(0));
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
  const check = useQuery({ ...checkOf(settled), enabled: changed && settled !== "" });
  // Only what was said of the very text that stands there counts.
  const said = changed && settled === draft.document ? check.data : undefined;
  const { onSettled, onError } = useDone("rules", "workspaces", "cost");
  const begin = (d?: Draft) => {
    setDraft(d);
    setBegun((n) => n + 1);
  };
  const put = useMutation({
    mutationFn: (f: { draft: Draft; reason: string; meant: boolean }) => putRules(f.draft.document, f.reason, f.draft.base, f.meant),
    onSettled,
    onError,
    onSuccess: () => begin(undefined),
  });
  const write = useCallback((document: string) => setDraft((d) => ({ document, base: d?.base ?? current?.version ?? 0, began: d?.began ?? current?.version ?? 0 })), [current?.version]);
  const findings = said?.findings ?? nobody;
  const changes = said?.changes ?? [];
  const behind = changed && current !== undefined && draft.base !== current.version;
  const ask = () => {
    if (!draft || !said) return;
    const asked = draft; // what is confirmed is what is sent
    let reason = "";
    const wide = said.effects.some((e) => e.wide);
    modal.confirm({
      title: say.putTheseHouseRules(),
      icon: null,
      width: 560,
      content: (
        <>
          {changes.map((c) => (
            <div key={c}>{c}</div>
          ))}
          <Effects of={said.effects} />
          <Input style={{ marginTop: 12 }} autoFocus aria-label={say.reason()} placeholder={say.whyItStandsIn()} onChange={(e) => (reason = e.target.value)} />
        </>
      ),
      // What reaches much of the fleet is said beside the button that means it.
      okText: wide ? say.inForceItIsMeant() : say.inForceAtOnce(),
      okButtonProps: { danger: wide },
      onOk: () => put.mutateAsync({ draft: asked, reason, meant: wide }).catch(() => undefined),
    });
  };
  return (
    <>
      <PageHead
        title={say.houseRules()}
        action={
          changeable && (
            <Space>
              {changed && <Button onClick={() => begin(undefined)}>{say.backToThoseIn()}</Button>}
              <Button type="primary" loading={changed && !said && !check.error} disabled={!said || behind || findings.length > 0 || changes.length === 0} onClick={ask}>
                {say.putInForce()}
              </Button>
            </Space>
          )
        }
      >
        {base && <span className="quiet">{say.madeFromVersionBy(changed, base.version, base.author, when(base.at), base.version === current?.version)}</span>}
      </PageHead>
      <ProblemNote error={versions.error ?? inForce.error ?? check.error} />
      {behind && draft && (
        <Alert
          type="warning"
          showIcon
          style={{ marginBottom: 12 }}
          title={say.versionWasPutMeanwhile(current.version, current.author, current.reason, draft.base)}
          description={
            <>
              {versions.data
                ?.filter((v) => v.version > draft.base)
                .flatMap((v) => v.changes)
                .map((c) => (
                  <div key={c}>{c}</div>
                ))}
              {say.takeWhatIsWanted()} {current.version}.
            </>
          }
          action={
            <Button size="small" onClick={() => setDraft({ ...draft, base: current.version })}>
              {say.iHaveLookedGo(current.version)}
            </Button>
          }
        />
      )}
      <div className="beside wide">
        <div>
          <Segmented<View>
            style={{ marginBottom: 8 }}
            value={view}
            onChange={(v) => set({ view: v === "text" ? undefined : v })}
            options={[
              { value: "text", label: say.theDocument() },
              { value: "common", label: say.commonValues() },
              { value: "beside", label: say.sideBySide() },
            ]}
          />
          {current && view === "text" && <RulesEditor key={`${draft?.began ?? current.version} ${begun}`} document={draft?.document ?? current.document} readOnly={!changeable} findings={findings} onChange={write} />}
          {current && view === "common" && <RulesForm key={`${draft?.began ?? current.version} ${begun}`} document={draft?.document ?? current.document} readOnly={!changeable} onChange={write} />}
          {current && view === "beside" && (
            <Beside
              with={Number(get("with") ?? 0)}
              choose={(n) => set({ with: n ? String(n) : undefined })}
              versions={versions.data ?? []}
              inForce={current.version}
              now={draft?.document ?? current.document}
              drafted={changed}
              take={changeable ? (document) => begin({ document, base: current.version, began: current.version }) : undefined}
            />
          )}
          {findings.map((f) => (
            <Alert key={`${f.line}:${f.column}${f.what}`} type="error" showIcon style={{ marginTop: 6 }} title={say.lineColumn(f.line, f.column, f.what)} description={f.fix} />
          ))}
          {said?.warnings.map((f) => (
            <Alert key={`${f.line}:${f.column}${f.what}`} type="warning" showIcon style={{ marginTop: 6 }} title={say.lineColumn(f.line, f.column, f.what)} description={f.fix} />
          ))}
          {said && findings.length === 0 && (
            <Alert
              type={changes.length ? "info" : "warning"}
              style={{ marginTop: 6 }}
              title={changes.length ? say.itWouldChange() : say.itChangesNothing()}
              description={
                <>
                  {changes.map((c) => (
                    <div key={c}>{c}</div>
                  ))}
                  <Effects of={said.effects} />
                </>
              }
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
              title: say.versions(),
              render: (_, v) => (
                <>
                  <Button type="link" size="small" style={{ padding: 0 }} title={say.besideWhatStandsNow()} onClick={() => set({ view: "beside", with: String(v.version) })}>
                    {say.version(v.version)}
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
      {changeable && <WhatIsOpen inForce={current?.version} />}
    </>
  );
}

/** What a change does to what is there now. */
function Effects({ of }: { of: readonly { text: string; wide?: boolean }[] }) {
  return (
    <>
      {of.map((e) => (
        <Alert key={e.text} type={e.wide ? "error" : "warning"} showIcon style={{ marginTop: 6 }} title={e.text} />
      ))}
    </>
  );
}

/** A version beside what stands now: the draft, or what is in force. */
function Beside({ with: n, choose, versions, inForce, now, drafted, take }: { with: number; choose: (n: number) => void; versions: RulesVersion[]; inForce: number; now: string; drafted: boolean; take?: (document: string) => void }) {
  const chosen = n || (drafted ? inForce : (versions[1]?.version ?? inForce));
  const other = useQuery(versionOf(chosen));
  return (
    <>
      <Space style={{ marginBottom: 8 }} wrap>
        <Select aria-label={say.whichVersion()} style={{ width: 300 }} value={chosen} onChange={choose} options={versions.map((v) => ({ value: v.version, label: say.versionInForce(v.version, v.version === inForce, v.reason) }))} />
        <span>{say.besideWhatYouWrite(drafted, inForce)}</span>
        {take && other.data && other.data.document !== now && (
          <Button size="small" onClick={() => take(other.data.document)}>
            {say.beginFromVersion(chosen)}
          </Button>
        )}
      </Space>
      <ProblemNote error={other.error} />
      {other.data && (other.data.document === now ? <p className="quiet">{say.theyAreTheSame()}</p> : <SideBySide before={other.data.document} after={now} />)}
    </>
  );
}
