import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";
import { Button, Row } from "../parts/basics";
import { ChooseSeveral } from "../parts/overlays";
import { useWindow } from "../shell/view";
import { sourceOf, type Chosen, type SheetChoice } from "./choices";
import type { Strip } from "./sheets";

const rows = ["logs", "spans", "flows", "events", "alarms"];

/** What can be chosen above a sheet beside the scope; every strip whose figures have the field follows. */
export function ChoiceBar({ choices, strips, cluster, chosen, onChange }: { choices: SheetChoice[]; strips: Strip[]; cluster: string; chosen: Chosen; onChange: (field: string, values: string[]) => void }) {
  return (
    <Row $gap={8} $wrap role="group" aria-label="Choices of this sheet" style={{ marginBottom: 8 }}>
      {choices.map((choice) => <OneChoice key={choice.field} choice={choice} source={choice.from || sourceOf(strips[0]?.text ?? "")} cluster={cluster} values={chosen[choice.field] ?? []} onChange={(values) => onChange(choice.field, values)} />)}
      {Object.keys(chosen).length > 0 && <Button bare onPress={() => choices.forEach(({ field }) => onChange(field, []))}>All again</Button>}
    </Row>
  );
}

function OneChoice({ choice, source, cluster, values, onChange }: { choice: SheetChoice; source: string; cluster: string; values: string[]; onChange: (values: string[]) => void }) {
  const window = useWindow();
  const minute = Math.floor(window.to / 60_000);
  const fields = useQuery({
    queryKey: ["choice", source, cluster, rows.includes(source) ? [window.to - window.from, minute] : 0], enabled: !!source, staleTime: 60_000,
    queryFn: () => (rows.includes(source) ? got(api.GET("/api/ask/row-fields", { params: { query: { kind: source, cluster, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString() } } }))
      : got(api.GET("/api/ask/fields", { params: { query: { metric: source, cluster } } }))),
  });
  const found = fields.data?.find((one) => one.name === choice.field);
  return <ChooseSeveral label={choice.field} values={values} options={found?.values ?? []} onChange={onChange} more={found && found.values.length < found.count ? `The first ${found.values.length} of ${found.count} are listed.` : undefined} />;
}
