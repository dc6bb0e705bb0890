import { useMutation } from "@tanstack/react-query";
import { App, Button, Table, Tooltip } from "antd";
import type { Secret } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { remove as removeIt } from "../service/secrets";
import * as say from "words/parts/SecretTable";

/** Secrets by name: one's own, or with `of` a repository's. Their values are not to be had. */
export function SecretTable({ rows, loading, removable, of, empty }: { rows?: Secret[]; loading: boolean; removable: boolean; of?: string; empty: string }) {
  const { modal } = App.useApp();
  const done = useDone("secrets", "workspaces", "preflight");
  const drop = useMutation({
    mutationFn: (name: string) => removeIt(name, of),
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
        { title: say.handedOverAs(), render: (_, s) => (s.form === "file" ? say.aFileFile(s.name) : `$${s.name}`) },
        { title: say.givenTo(), render: (_, s) => (s.level === "repository" ? say.everybodyWhoWorksIn() : s.everywhere ? say.allMyWorkspaces() : s.repositories.join(", ")) },
        { title: say.version(), dataIndex: "version", align: "right", className: "number" },
        { title: say.set(), render: (_, s) => <Tooltip title={exact(s.updated_at)}>{when(s.updated_at)}</Tooltip> },
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
