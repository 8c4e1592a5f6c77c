import { useState } from "react";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { Button, Quiet, Row } from "../parts/basics";
import { Dialog } from "../parts/overlays";
import { exact } from "../parts/time";
import { Difference } from "./Difference";

const Line = styled(Row)`justify-content: space-between; border-top: 1px solid ${({ theme }) => theme.rule}; padding-top: 6px; min-height: 30px;`;

/** Every revision there was; one of them can be made the draft again. */
export function RevisionsDialog({ cluster, revisions, close, take }: { cluster: string; revisions: Schemas["RevisionView"][]; close: () => void; take: (plan: Schemas["CollectionPlan"]) => void }) {
  const [open, setOpen] = useState<number | null>(null);
  return (
    <Dialog title={`Revisions of the collection from ${cluster}`} width={760} onClose={close}>
      {revisions.map((revision, i) => (
        <div key={revision.revision}>
          <Line>
            <span><b>{revision.revision}</b>{i === 0 ? ", in force" : ""}<br /><Quiet>by {revision.createdBy}, {exact(Date.parse(revision.createdAt))}{revision.appliedAt ? "" : "; not all objects were applied"}</Quiet></span>
            {i > 0 && <Row $gap={8}>
              <Button bare aria-expanded={open === revision.revision} aria-label={`What going back to revision ${revision.revision} changes`} onPress={() => setOpen(open === revision.revision ? null : revision.revision)}>What would change</Button>
              <Button aria-label={`Take revision ${revision.revision} as the draft`} onPress={() => take(revision.plan)}>Take as the draft</Button>
            </Row>}
          </Line>
          {open === revision.revision && <Difference cluster={cluster} plan={revision.plan} title={`Going back to revision ${revision.revision}`} />}
        </div>
      ))}
    </Dialog>
  );
}
