import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Image, Space, Spin, Table, Typography } from "antd";
import { Link } from "react-router";
import { may, type Me } from "../api/client";
import { nothing, PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { useDone } from "../parts/useDone";
import { badge, change, drop, launchLinks, qr, uses, type LaunchLink } from "../service/launchLinks";
import { exact, when } from "words/times";
import * as say from "words/pages/LaunchLinksPage";

/** Launch links: who may use them, how often they were, and their address in every form. */
export function LaunchLinksPage({ person }: { person: Me }) {
  const { modal } = App.useApp();
  const list = useQuery(launchLinks);
  const done = useDone("launch-links");
  const pause = useMutation({ mutationFn: (l: LaunchLink) => change(l.id, { paused: !l.paused_at }), ...done });
  const remove = useMutation({ mutationFn: drop, ...done });
  return (
    <>
      <PageHead title={say.launchLinks()} action={may(person, "workspace.launch") && <Link to="/launch">{say.makeOne()}</Link>} />
      <ProblemNote error={list.error ?? pause.error ?? remove.error} />
      <Table<LaunchLink>
        size="small"
        rowKey="id"
        pagination={{ hideOnSinglePage: true, pageSize: 50 }}
        loading={list.isPending}
        dataSource={list.data}
        locale={nothing(say.thereAreNone())}
        expandable={{ expandedRowRender: (l) => <Inside of={l} /> }}
        columns={[
          { title: say.title(), render: (_, l) => <Link to={`/go/${l.id}`}>{l.title}</Link> },
          { title: say.launches(), render: (_, l) => say.choice(l.launch.repository, l.launch.branch, l.launch.size) },
          { title: say.forWhom(), width: 150, render: (_, l) => (l.guest_s ? say.andGuests(l.team ?? "", Math.ceil(l.guest_s / 86_400), l.guests ?? 0) : l.team || say.whoeverSignsIn()) },
          { title: say.used(), width: 100, align: "right", className: "number", render: (_, l) => say.usedOf(l.used, l.people_most) },
          { title: say.state(), width: 190, render: (_, l) => <span title={l.until && exact(l.until)}>{l.paused_at ? say.paused(when(l.paused_at)) : l.until ? (Date.parse(l.until) > Date.now() ? say.until(when(l.until)) : say.ended(when(l.until))) : say.open()}</span> },
          { title: say.by(), width: 100, dataIndex: "made_by" },
          {
            title: "",
            width: 180,
            align: "right",
            render: (_, l) =>
              may(person, "launch-link.change", l.made_by === person.name ? "own" : "other") && (
                <Space>
                  <Button size="small" onClick={() => pause.mutate(l)}>
                    {l.paused_at ? say.resume() : say.pause()}
                  </Button>
                  <Button size="small" danger onClick={() => modal.confirm({ title: say.withdrawIt(l.title), content: say.whatCameOfItStays(), okText: say.withdraw(), okButtonProps: { danger: true }, onOk: () => remove.mutateAsync(l.id).catch(() => undefined) })}>
                    {say.withdraw()}
                  </Button>
                </Space>
              ),
          },
        ]}
      />
    </>
  );
}

/** Its address, as a text, a badge and a QR code; and who came by it. */
function Inside({ of: l }: { of: LaunchLink }) {
  const by = useQuery(uses(l.id));
  return (
    <div className="beside">
      <dl className="facts one">
        <dt>{say.address()}</dt>
        <dd>
          <Typography.Text copyable code>
            {l.address}
          </Typography.Text>
        </dd>
        <dt>{say.forAReadme()}</dt>
        <dd>
          <img src={badge(l.id)} alt={l.title} height={28} />
          <br />
          <Typography.Text copyable code>
            {`[![${l.title}](${badge(l.id)})](${l.address})`}
          </Typography.Text>
        </dd>
        <dt>{say.asAPicture()}</dt>
        <dd>
          <Image src={qr(l.id)} alt={say.qrOf(l.title)} width={120} preview={false} />
        </dd>
      </dl>
      <div>
        <ProblemNote error={by.error} />
        {by.isPending ? (
          <Spin />
        ) : (
          <Table
            size="small"
            rowKey="person"
            pagination={{ hideOnSinglePage: true, pageSize: 20 }}
            dataSource={by.data}
            locale={nothing(say.nobodyYet())}
            columns={[
              { title: say.person(), dataIndex: "person" },
              { title: say.workspace(), render: (_, u) => <Link to={`/workspaces/${u.workspace}.${u.person}`}>{u.workspace}</Link> },
              { title: say.state(), dataIndex: "phase" },
              { title: say.since(), render: (_, u) => <span title={exact(u.at)}>{when(u.at)}</span> },
            ]}
          />
        )}
      </div>
    </div>
  );
}
