import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, DatePicker, Form, Select, Space, Table } from "antd";
import dayjs, { type Dayjs } from "dayjs";
import { useState } from "react";
import type { Guest } from "../api/client";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { ShownOnce } from "./ShownOnce";
import { useDone } from "./useDone";
import { repositories as all } from "../service/repositories";
import { changeGuest, endGuest, guests as everyGuest, inviteGuest } from "../service/people";
import { when } from "words/times";
import * as say from "words/parts/Guests";

/** Those whose access ends by itself: until when, and what it is for. */
export function Guests() {
  const { modal } = App.useApp();
  const [extending, setExtending] = useState<Guest>();
  const guests = useQuery(everyGuest);
  const end = useMutation({ mutationFn: endGuest, ...useDone("people", "workspaces") });
  if (!guests.data?.length) return <ProblemNote error={guests.error} />;
  return (
    <section aria-label={say.guests()} style={{ marginBottom: 24 }}>
      <h2 className="below">{say.guests()}</h2>
      <Table<Guest>
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={guests.data}
        columns={[
          { title: say.name(), render: (_, g) => say.nameAndFull(g.name, g.full_name) },
          { title: say.team(), dataIndex: "team" },
          { title: say.until(), render: (_, g) => (g.over ? <span className="quiet">{say.over(when(g.until))}</span> : when(g.until)) },
          { title: say.repositories(), render: (_, g) => g.repositories.join(", ") },
          { title: say.sizes(), render: (_, g) => g.sizes.join(", ") || say.everySize() },
          { title: say.broughtInBy(), dataIndex: "by" },
          {
            title: "",
            align: "right",
            render: (_, g) => (
              <Space>
                <Button size="small" onClick={() => setExtending(g)}>
                  {say.extend()}
                </Button>
                <Button size="small" danger onClick={() => modal.confirm({ title: say.endTheAccessOf(g.full_name), content: say.theyAreSignedOut(), okText: say.end(), okButtonProps: { danger: true }, onOk: () => end.mutateAsync(g.name).catch(() => undefined) })}>
                  {say.end()}
                </Button>
              </Space>
            ),
          },
        ]}
      />
      {extending && <Extend guest={extending} onClose={() => setExtending(undefined)} />}
    </section>
  );
}

type Bounds = { until: Dayjs; repositories: string[]; sizes: string[] };

/** A day counts whole. */
const endOf = (day: Dayjs) => day.add(1, "day").startOf("day").toISOString();

/** What a guest's access is for. */
function Access() {
  const repositories = useQuery(all);
  return (
    <>
      <Form.Item name="until" label={say.untilTheEndOf()} rules={[{ required: true, message: say.sayWhenItEnds() }]}>
        <DatePicker style={{ width: "100%" }} minDate={dayjs()} maxDate={dayjs().add(365, "day")} />
      </Form.Item>
      <Form.Item name="repositories" label={say.repositories()} rules={[{ required: true, message: say.nameAtLeastOne() }]}>
        <Select mode="multiple" options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))} />
      </Form.Item>
      <Form.Item name="sizes" label={say.sizes()}>
        <Select mode="tags" open={false} suffixIcon={null} placeholder={say.everySize()} />
      </Form.Item>
    </>
  );
}

function Extend({ guest, onClose }: { guest: Guest; onClose: () => void }) {
  return (
    <Ask<Bounds>
      title={say.theAccessOf(guest.full_name)}
      ok={say.extend()}
      initial={{ until: guest.over ? dayjs() : dayjs(guest.until).subtract(1, "second"), repositories: guest.repositories, sizes: guest.sizes }}
      ask={(f) => changeGuest(guest.name, { until: endOf(f.until), repositories: f.repositories, sizes: f.sizes })}
      changes={["people"]}
      onClose={onClose}
    >
      <Access />
    </Ask>
  );
}

/** The form that makes a link by which a guest sets up their account. */
export function InviteGuest({ teams, team, onClose }: { teams: string[]; team?: string; onClose: () => void }) {
  return (
    <Ask<Bounds & { team: string }, Awaited<ReturnType<typeof inviteGuest>>>
      title={say.inviteAGuest()}
      ok={say.makeTheLink()}
      initial={{ team: team ?? teams[0], sizes: [] }}
      ask={(f) => inviteGuest({ team: f.team, until: endOf(f.until), repositories: f.repositories, sizes: f.sizes })}
      changes={["people"]}
      onClose={onClose}
      shown={(made) => <ShownOnce says={say.sendThisLinkTo(when(made.expires_at))} link={made.link} />}
    >
      <p className="quiet">{say.aGuestWorksIn()}</p>
      <Form.Item name="team" label={say.team()}>
        <Select disabled={teams.length < 2} options={teams.map((t) => ({ value: t, label: t }))} />
      </Form.Item>
      <Access />
    </Ask>
  );
}
