import { useQuery } from "@tanstack/react-query";
import { Form, Image, Input, InputNumber, Select, Typography } from "antd";
import { Ask } from "./Ask";
import type { Launch } from "../service/launches";
import { badge, make, qr, type LaunchLink } from "../service/launchLinks";
import { teams as teamsOf } from "../service/people";
import * as say from "words/parts/MakeLaunchLink";

type Fields = { title?: string; team?: string; people_most?: number; days?: number; guest_days?: number };

/** Makes a launch link of a choice; its address is shown as a text, a badge and a QR code. */
export function MakeLaunchLink({ launch, guests, onClose }: { launch: Launch; guests: boolean; onClose: () => void }) {
  const teams = useQuery({ ...teamsOf, retry: false }); // not everybody sees them
  return (
    <Ask<Fields, LaunchLink>
      title={say.makeALaunchLink(launch.repository)}
      ok={say.makeIt()}
      about={say.whoeverOpensIt()}
      initial={{}}
      ask={({ days, guest_days, ...f }) => make({ launch: { ...launch, name: undefined }, title: f.title?.trim() || undefined, team: f.team || undefined, people_most: f.people_most || undefined, seconds: days ? Math.round(days * 86_400) : undefined, guest_s: guest_days ? Math.round(guest_days * 86_400) : undefined })}
      changes={["launch-links"]}
      onClose={onClose}
      shown={(l) => (
        <>
          <Typography.Paragraph copyable code>
            {l.address}
          </Typography.Paragraph>
          <p>{say.forAReadme()}</p>
          <Typography.Paragraph copyable code>
            {`[![${l.title}](${badge(l.id)})](${l.address})`}
          </Typography.Paragraph>
          <Image src={qr(l.id)} alt={say.qrOf(l.title)} width={140} preview={false} />
        </>
      )}
    >
      <Form.Item name="title" label={say.title()} extra={say.itStandsAbove()}>
        <Input autoFocus maxLength={80} placeholder={launch.repository} />
      </Form.Item>
      <Form.Item name="team" label={say.forWhom()}>
        <Select allowClear placeholder={say.whoeverSignsIn()} options={teams.data?.map((t) => ({ value: t.name, label: t.name }))} />
      </Form.Item>
      <Form.Item name="people_most" label={say.howMany()}>
        <InputNumber min={1} max={10_000} placeholder={say.noBound()} style={{ width: 140 }} />
      </Form.Item>
      <Form.Item name="days" label={say.forHowManyDays()}>
        <InputNumber min={1} max={366} placeholder={say.noEnd()} style={{ width: 140 }} />
      </Form.Item>
      {guests && (
        <Form.Item name="guest_days" label={say.guestsForDays()} extra={say.whoeverHasNoAccount()}>
          <InputNumber min={1} max={366} placeholder={say.noGuests()} style={{ width: 140 }} />
        </Form.Item>
      )}
    </Ask>
  );
}
