import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Card, Heading, Quiet, Row, Trouble } from "../parts/basics";
import { NumberInput, TextInput } from "../parts/fields";
import { digits, whole, withUnit } from "../parts/format";
import { Dialog } from "../parts/overlays";
import { basisWords, money, signals } from "./cost";

const Grid = styled.table`
  width: 100%; border-collapse: collapse; margin-top: 6px;
  th { font-weight: 400; color: ${({ theme }) => theme.ink2}; }
  th, td { text-align: right; padding: 4px 0 4px 10px; border-top: 1px solid ${({ theme }) => theme.rule}; white-space: nowrap; }
  th:first-child, td:first-child { text-align: left; padding-left: 0; white-space: normal; }
  td + td { font-family: ${({ theme }) => theme.mono}; }
`;

/** What a plan is expected to bring and to cost, beside what is measured. */
export function CostCard({ view, size, draft }: { view: Schemas["CollectionView"]; size: Schemas["PlanSize"]; draft: boolean }) {
  const [pricing, setPricing] = useState(false);
  const [kinds, setKinds] = useState(false);
  return (
    <Card className="list">
      <Row style={{ justifyContent: "space-between" }}><Heading>What {draft ? "the draft" : "it"} costs</Heading><Row $gap={8}><Button bare aria-expanded={kinds} onPress={() => setKinds(!kinds)}>By source</Button><Button bare needs="keeper" onPress={() => setPricing(true)}>Prices</Button></Row></Row>
      <Grid>
        <thead><tr><th scope="col">a second</th><th scope="col">expected</th><th scope="col">measured, 5 min</th><th scope="col">expected a day</th></tr></thead>
        <tbody>
          {signals.filter(([signal]) => size.amounts.some((amount) => amount.signal === signal) || view.measured.perSecond[signal] != null).map(([signal, noun]) => <Fragment key={signal}>
            <tr><td>{noun}{signal === "metrics" ? <Quiet>, {whole(Math.round(size.series))} series</Quiet> : null}</td><td>{size.perSecond[signal] == null ? "not known" : digits(size.perSecond[signal])}</td><td>{digits(view.measured.perSecond[signal] ?? 0)}</td>
              <td>{size.bytesPerDay[signal] == null ? "–" : withUnit(size.bytesPerDay[signal], "By")}</td></tr>
            {kinds && size.amounts.filter((amount) => amount.signal === signal).map((amount) => <tr key={amount.signal + amount.what}><td style={{ paddingLeft: 12 }}><Quiet>{whole(amount.sources)} × {amount.what}</Quiet></td><td>{amount.perSecond == null ? "–" : digits(amount.perSecond)}</td><td></td><td><Quiet>{basisWords[amount.basis]}</Quiet></td></tr>)}
          </Fragment>)}
          <tr><td>agents, processor in all</td><td></td><td>{view.measured.agentCores == null ? "–" : `${digits(view.measured.agentCores)} cores`}</td><td></td></tr>
          <tr><td>price a month, by your prices</td><td>{size.pricePerMonth == null ? <Button bare needs="keeper" onPress={() => setPricing(true)}>set prices</Button> : money(size.pricePerMonth, size.currency)}</td><td></td><td></td></tr>
          <tr><td>stored in all, agents send to</td><td colSpan={3}>{withUnit(Object.values(view.measured.bytes).reduce((all, one) => all + one, 0), "By")}, {view.serverAddress}</td></tr>
        </tbody>
      </Grid>
      {pricing && <PricesDialog close={() => setPricing(false)} />}
    </Card>
  );
}

function PricesDialog({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const kept = useQuery({ queryKey: ["prices"], queryFn: async () => (await api.GET("/api/prices")).data ?? null });
  const [draft, setDraft] = useState<Schemas["Prices"] | null>(null);
  const prices = draft ?? kept.data ?? { currency: "EUR", perMillion: {}, perGibMonth: 0 };
  const save = useMutation({ mutationFn: () => got(api.PUT("/api/prices", { body: prices })), onSuccess: () => { void queries.invalidateQueries(); close(); } });
  return (
    <Dialog title="Your prices" width={460} onClose={close} actions={<Button main isDisabled={save.isPending} onPress={() => save.mutate()}>Keep</Button>}>
      <Quiet>What taking in and keeping cost you, for the whole installation. From them every plan shows its price a month before it is rolled out.</Quiet>
      <TextInput label="Currency" value={prices.currency} onChange={(currency) => setDraft({ ...prices, currency })} />
      {signals.map(([signal, noun]) => <NumberInput key={signal} label={`A million ${noun}`} value={prices.perMillion[signal] ?? 0} onChange={(price) => setDraft({ ...prices, perMillion: { ...prices.perMillion, [signal]: price } })} />)}
      <NumberInput label="A GiB kept for a month" value={prices.perGibMonth} onChange={(perGibMonth) => setDraft({ ...prices, perGibMonth })} />
      {save.error ? <Trouble error={save.error} /> : null}
    </Dialog>
  );
}
