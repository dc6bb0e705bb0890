import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Modal, Select } from "antd";
import { useState } from "react";
import { type Me, may, ledBy } from "../api/client";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { MakeToken, TokenTable } from "./Tokens";
import { useDone } from "./useDone";
import { addProgram } from "../service/people";
import { endTokenOf, tokensOf } from "../service/tokens";
import * as say from "words/parts/Programs";

/** Makes an account for programs, which belongs to a team and to no person. */
export function AddProgram({ person, teams }: { person: Me; teams: string[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button onClick={() => setOpen(true)}>{say.addAProgram()}</Button>
      {open && (
        <Ask<{ name: string; purpose: string; team: string }> title={say.anAccountForPrograms()} ok={say.addIt()} about={say.itBelongsToA()} initial={{ team: !may(person, "service-account.change", "other") ? ledBy(person)[0] : undefined }} ask={addProgram} changes={["people"]} onClose={() => setOpen(false)}>
          <Form.Item name="name" label={say.name()} rules={[{ required: true, message: say.giveItAName() }]}>
            <Input autoFocus placeholder={say.nightwatch()} maxLength={32} />
          </Form.Item>
          <Form.Item name="purpose" label={say.whatItIsFor()} rules={[{ required: true, message: say.sayWhatItIs() }]}>
            <Input placeholder={say.reviewsOfPullRequests()} maxLength={120} />
          </Form.Item>
          <Form.Item name="team" label={say.team()} rules={[{ required: true, message: say.sayWhoseItIs() }]}>
            <Select disabled={!may(person, "service-account.change", "other")} options={teams.map((t) => ({ value: t, label: t }))} />
          </Form.Item>
        </Ask>
      )}
    </>
  );
}

/** The tokens of an account of programs. */
export function ProgramTokens({ of, onClose }: { of: string; onClose: () => void }) {
  const [making, setMaking] = useState(false);
  const tokens = useQuery(tokensOf(of));
  const end = useMutation({ mutationFn: (id: string) => endTokenOf(of, id), ...useDone("tokens") });
  return (
    <Modal
      open
      width={860}
      title={say.tokensOf(of)}
      onCancel={onClose}
      footer={
        <Button type="primary" onClick={() => setMaking(true)}>
          {say.makeAToken()}
        </Button>
      }
    >
      <ProblemNote error={tokens.error} />
      <TokenTable tokens={tokens.data} loading={tokens.isPending} end={(id) => end.mutate(id)} />
      {making && <MakeToken of={of} onClose={() => setMaking(false)} />}
    </Modal>
  );
}
