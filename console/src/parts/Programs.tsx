import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Modal, Select } from "antd";
import { useState } from "react";
import type { Person } from "../api/client";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { MakeToken, TokenTable } from "./Tokens";
import { useDone } from "./useDone";
import { addProgram } from "../service/people";
import { endTokenOf, tokensOf } from "../service/tokens";

/** Makes an account for programs, which belongs to a team and to no person. */
export function AddProgram({ person, teams }: { person: Person; teams: string[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button onClick={() => setOpen(true)}>Add a program</Button>
      {open && (
        <Ask<{ name: string; purpose: string; team: string }>
          title="An account for programs"
          ok="Add it"
          about="It belongs to a team and to no person: nobody signs in with it, and what it does goes on when who made it is gone. Programs use it by tokens."
          initial={{ team: person.role === "lead" ? person.team : undefined }}
          ask={addProgram}
          changes={["people"]}
          onClose={() => setOpen(false)}
        >
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
            <Input autoFocus placeholder="nightwatch" maxLength={32} />
          </Form.Item>
          <Form.Item name="purpose" label="What it is for" rules={[{ required: true, message: "Say what it is for" }]}>
            <Input placeholder="Reviews of pull requests" maxLength={120} />
          </Form.Item>
          <Form.Item name="team" label="Team" rules={[{ required: true, message: "Say whose it is" }]}>
            <Select disabled={person.role === "lead"} options={teams.map((t) => ({ value: t, label: t }))} />
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
      title={`Tokens of ${of}`}
      onCancel={onClose}
      footer={
        <Button type="primary" onClick={() => setMaking(true)}>
          Make a token
        </Button>
      }
    >
      <ProblemNote error={tokens.error} />
      <TokenTable tokens={tokens.data} loading={tokens.isPending} end={(id) => end.mutate(id)} />
      {making && <MakeToken of={of} onClose={() => setMaking(false)} />}
    </Modal>
  );
}
