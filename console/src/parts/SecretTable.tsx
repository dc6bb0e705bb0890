import { useMutation } from "@tanstack/react-query";
import { App, Button, Table, Tooltip } from "antd";
import type { Secret } from "../api/client";
import { nothing } from "./Page";
import { exact, when } from "./time";
import { useDone } from "./useDone";
import { remove as removeIt } from "../service/secrets";

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
        { title: "Name", render: (_, s) => <code>{s.name}</code>, sorter: (a, b) => a.name.localeCompare(b.name), defaultSortOrder: "ascend" },
        { title: "Handed over as", render: (_, s) => (s.form === "file" ? `a file ($${s.name}_FILE)` : `$${s.name}`) },
        { title: "Given to", render: (_, s) => (s.level === "repository" ? "everybody who works in it" : s.everywhere ? "all my workspaces" : s.repositories.join(", ")) },
        { title: "Version", dataIndex: "version", align: "right", className: "number" },
        { title: "Set", render: (_, s) => <Tooltip title={exact(s.updated_at)}>{when(s.updated_at)}</Tooltip> },
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
                    title: `Remove ${s.name}?`,
                    content: "Terminals and runs opened from now on do not have it.",
                    okText: "Remove",
                    okButtonProps: { danger: true },
                    onOk: () => drop.mutateAsync(s.name).catch(() => undefined),
                  })
                }
              >
                Remove
              </Button>
            ),
        },
      ]}
    />
  );
}
