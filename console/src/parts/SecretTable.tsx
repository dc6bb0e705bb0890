import { useMutation } from "@tanstack/react-query";
import { App, Button, Table, Tooltip } from "antd";
import type { Secret } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { remove as removeIt, type Whose } from "../service/secrets";
import * as say from "words/parts/SecretTable";

/** Secrets of one level by name. Their values are not to be had. */
export function SecretTable({ rows, loading, removable, of, empty }: { rows?: Secret[]; loading: boolean; removable: boolean; of: Whose; empty: string }) {
  const { modal } = App.useApp();
  const done = useDone("secrets", "workspaces", "preflight");
  const drop = useMutation({
    mutationFn: (name: string) => removeIt(of, name),
    ...done,
  });
  return (
    <Table<Secret>
      size="small"
      rowKey="name"
      pagination={false}
      loading={loading}
      dataSource={rows}
      locale={nothing(empty)}
      columns={[
        { title: say.name(), render: (_, s) => <code>{s.name}</code>, sorter: (a, b) => a.name.localeCompare(b.name), defaultSortOrder: "ascend" },
        { title: say.handedOverAs(), render: (_, s) => say.formOf(s) },
        { title: say.givenTo(), render: (_, s) => say.reach(s.level, s.everywhere, s.repositories, s.branches) },
        { title: say.version(), dataIndex: "version", align: "right", className: "number" },
        { title: say.set(), render: (_, s) => <Tooltip title={exact(s.updated_at)}>{say.whenBy(when(s.updated_at), s.by)}</Tooltip> },
        { title: say.lastUsed(), render: (_, s) => (s.used_at ? <Tooltip title={exact(s.used_at)}>{when(s.used_at)}</Tooltip> : <span className="quiet">{say.never()}</span>) },
        {
          title: "",
          align: "right",
          render: (_, s) =>
            removable && (
              <Button
                size="small"
                danger
                onClick={() =>
                  modal.confirm({
                    title: say.removeOfName(s.name),
                    content: say.terminalsAndRunsOpened(),
                    okText: say.remove(),
                    okButtonProps: { danger: true },
                    onOk: () => drop.mutateAsync(s.name).catch(() => undefined),
                  })
                }
              >
                {say.remove()}
              </Button>
            ),
        },
      ]}
    />
  );
}
