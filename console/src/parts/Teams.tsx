import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Input, Space, Table } from "antd";
import { nothing } from "./Page";
import { useDone } from "./useDone";
import { people as everybody, removeTeam, renameTeam, teams as teamsOf } from "../service/people";
import * as say from "words/parts/Teams";

/** The teams, for whoever brings people in: their names, and which are empty. */
export function Teams() {
  const { modal } = App.useApp();
  const teams = useQuery(teamsOf);
  const people = useQuery(everybody);
  const done = useDone("teams", "people", "rules");
  const rename = useMutation({ mutationFn: ({ name, to }: { name: string; to: string }) => renameTeam(name, to), ...done });
  const remove = useMutation({ mutationFn: removeTeam, ...done });
  const of = (team: string) => (people.data ?? []).filter((p) => !p.closed && (p.team === team || p.also?.some((m) => m.team === team))).length;
  return (
    <section aria-label={say.teams()}>
      <h2 className="below">{say.teams()}</h2>
      <Table
        size="small"
        rowKey="name"
        pagination={{ hideOnSinglePage: true, pageSize: 20 }}
        loading={teams.isPending}
        dataSource={teams.data}
        locale={nothing(say.thereAreNone())}
        columns={[
          { title: say.team(), dataIndex: "name" },
          { title: say.people(), width: 120, align: "right", className: "number", render: (_, t) => of(t.name) },
          {
            title: "",
            width: 220,
            align: "right",
            render: (_, t) => (
              <Space>
                <Button
                  size="small"
                  onClick={() => {
                    let to = t.name;
                    modal.confirm({ title: say.renameIt(t.name), icon: null, content: <Input autoFocus defaultValue={t.name} aria-label={say.newName()} onChange={(e) => (to = e.target.value)} />, okText: say.rename(), onOk: () => rename.mutateAsync({ name: t.name, to }).catch(() => undefined) });
                  }}
                >
                  {say.rename()}
                </Button>
                <Button
                  size="small"
                  danger
                  disabled={of(t.name) > 0}
                  title={of(t.name) > 0 ? say.notEmpty() : undefined}
                  onClick={() => modal.confirm({ title: say.removeIt(t.name), content: say.whatWasSpent(), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(t.name).catch(() => undefined) })}
                >
                  {say.remove()}
                </Button>
              </Space>
            ),
          },
        ]}
      />
    </section>
  );
}
