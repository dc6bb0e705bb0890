import { Table, Tooltip } from "antd";
import type { SecretChoice } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "words/times";
import * as say from "words/parts/SecretChoices";

/** What becomes of each secret in a workspace, and why. */
export function SecretChoices({ rows, loading }: { rows?: SecretChoice[]; loading: boolean }) {
  return (
    <Table<SecretChoice>
      size="small"
      rowKey={(c) => c.level + (c.whose ?? "") + c.name}
      pagination={false}
      loading={loading}
      dataSource={rows}
      locale={nothing(say.noneIsGiven())}
      columns={[
        { title: say.name(), render: (_, c) => <code>{c.name}</code> },
        { title: say.given(), render: (_, c) => (c.given ? say.yesAs(c.form ?? "", c.name) : say.no()) },
        { title: say.level(), render: (_, c) => say.levelOf(c.level, c.whose) },
        {
          title: say.set(),
          render: (_, c) =>
            c.updated_at && (
              <Tooltip title={exact(c.updated_at)}>
                {say.version(c.version ?? 0)}, {when(c.updated_at)}
                {c.by && say.by(c.by)}
              </Tooltip>
            ),
        },
        { title: say.theDefinitionAsksFor(), render: (_, c) => say.asked(c.wanted, c.required ?? false) },
        {
          title: say.why(),
          render: (_, c) => (
            <>
              {c.why}
              {c.hides.length > 0 && say.hides(c.hides)}
              {c.held?.map((h) => (
                <div key={h.label + h.since} className="warn-text">
                  {say.holdsAnOlder(h.label, h.version, when(h.since))}
                </div>
              ))}
            </>
          ),
        },
      ]}
    />
  );
}
