import { useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Space, Table, Tooltip } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { type PrebuildPlan, type Me, may } from "../api/client";
import { AddressInput } from "../parts/AddressInput";
import { Ask } from "../parts/Ask";
import { nothing, PageHead } from "../parts/Page";
import { Newest, Plan, PutPlan } from "../parts/Prebuilds";
import { ProblemNote } from "../parts/ProblemNote";
import { useAddress } from "../parts/search";
import { plans as plansOf } from "../service/prebuilds";
import { add, repositories as all, type Repository } from "../service/repositories";
import * as say from "words/pages/RepositoriesPage";

/** Registered repositories, with the images that are prepared ahead of each. */
export function RepositoriesPage({ person }: { person: Me }) {
  const navigate = useNavigate();
  const [get, set] = useAddress();
  const [planning, setPlanning] = useState<string>();
  const [adding, setAdding] = useState(false);
  const manages = may(person, "prebuild.change");
  const repositories = useQuery(all);
  const plans = useQuery(plansOf());
  const words = (get("find") ?? "").toLowerCase();
  const rows = (repositories.data ?? []).filter((r) => r.name.includes(words) || r.url.includes(words));
  const of = (r: Repository): PrebuildPlan[] => (plans.data ?? []).filter((p) => p.repository === r.name);
  return (
    <>
      <PageHead
        title={say.repositories()}
        action={
          may(person, "repository.change") && (
            <Button type="primary" onClick={() => setAdding(true)}>
              {say.registerARepository()}
            </Button>
          )
        }
      >
        <Link to="/starters">{say.starters()}</Link>
        <Input allowClear placeholder={say.findByNameOr()} aria-label={say.find()} style={{ width: 240 }} value={get("find") ?? ""} onChange={(e) => set({ find: e.target.value })} />
      </PageHead>
      <ProblemNote error={repositories.error ?? plans.error} />
      <Table<Repository>
        size="small"
        rowKey="name"
        pagination={false}
        loading={repositories.isPending || plans.isPending}
        dataSource={rows}
        locale={nothing(repositories.data?.length ? say.noRepositoryFitsWhat() : say.noRepositoryIsRegistered())}
        expandable={{
          expandedRowKeys: get("open")?.split(",") ?? [],
          onExpandedRowsChange: (keys) => set({ open: keys.join(",") }),
          rowExpandable: (r) => of(r).length > 0,
          expandedRowRender: (r) => of(r).map((p) => <Plan key={p.branch} of={p} manages={manages} />),
        }}
        columns={[
          {
            title: say.name(),
            ellipsis: true,
            render: (_, r) => (
              <>
                <Link to={`/repositories/${r.name}`}>{r.name}</Link>
                <div className="quiet small" style={{ overflow: "hidden", textOverflow: "ellipsis" }} title={r.url}>
                  {r.url}
                </div>
              </>
            ),
            sorter: (a, b) => a.name.localeCompare(b.name),
            defaultSortOrder: "ascend",
          },
          { title: say.branch(), dataIndex: "default_branch", width: 80, ellipsis: true },
          { title: say.preparedAhead(), className: "nowrap", width: 230, render: (_, r) => (of(r).length === 0 ? <span className="quiet">{say.noPlan()}</span> : of(r).map((p) => <Newest key={p.branch} of={p} />)) },
          { title: say.team(), width: 110, dataIndex: "team" },
          { title: <Tooltip title={say.whetherItsPrebuildsSign()}>{say.reads()}</Tooltip>, width: 90, render: (_, r) => (r.own_credential ? say.asItself() : say.asNobody()) },
          { title: say.pushes(), width: 80, render: (_, r) => (r.signs_pushes ? say.signed() : say.notTold()) },
          {
            title: "",
            align: "right",
            width: 230,
            render: (_, r) => (
              <Space>
                {may(person, "workspace.launch") && (
                  <Button size="small" onClick={() => navigate(`/launch?repository=${r.name}`)}>
                    {say.launch()}
                  </Button>
                )}
                {manages && (
                  <Button size="small" onClick={() => setPlanning(r.name)}>
                    {say.planPrebuilds()}
                  </Button>
                )}
              </Space>
            ),
          },
        ]}
      />
      {planning && <PutPlan repository={planning} onClose={() => setPlanning(undefined)} />}
      {adding && (
        <Ask<{ url: string; name?: string }> title={say.registerARepository()} ok={say.register()} ask={(f) => add({ url: f.url, name: f.name || undefined })} changes={["repositories"]} onClose={() => setAdding(false)}>
          <Form.Item name="url" label={say.address()} rules={[{ required: true, message: say.itsAddressPlease() }]}>
            <AddressInput />
          </Form.Item>
          <Form.Item name="name" label={say.name()}>
            <Input spellCheck={false} placeholder={say.theLastPartOf()} maxLength={40} />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}
