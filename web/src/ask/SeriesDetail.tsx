import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { api, got, type Schemas } from "../api/client";
import { Button, Mark, Quiet, Trouble } from "../parts/basics";
import { Drawer } from "../parts/overlays";
import { ago } from "../parts/time";
import { withLabel } from "./rows";

const Origin = styled.section`
  border-top: 1px solid ${({ theme }) => theme.rule};
  padding: 8px 0;
  ul { margin: 4px 0 0; padding-left: 18px; color: ${({ theme }) => theme.ink2}; }
  b { overflow-wrap: anywhere; }
`;
const levels: Record<string, Schemas["HealthLevel"]> = { onTime: "clear", starting: "warning", late: "major", partial: "minor", refused: "critical", silent: "critical", off: "warning" };
const words: Record<string, string> = { onTime: "on time", starting: "starting", late: "late", partial: "partial", refused: "refused", silent: "silent", off: "off" };

/** One series of an answer: its labels, each a way to narrow the enquiry, and which agents, targets and rights it comes from. */
export function SeriesDetail({ name, labels, asked, cluster, window, onAsk, onClose }: {
  name: string; labels: Record<string, string>; asked: string; cluster: string; window: { from: number; to: number }; onAsk: (text: string) => void; onClose: () => void;
}) {
  const navigate = useNavigate();
  const origins = useQuery({
    queryKey: ["origins", asked, cluster, JSON.stringify(labels)],
    queryFn: () => got(api.POST("/api/ask/origins", { body: { text: asked, cluster, from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString(), labels } })),
  });
  const data = origins.data;
  return (
    <Drawer title={name} onClose={onClose}>
      {Object.keys(labels).length > 0 && <>
        <dl>{Object.entries(labels).map(([label, value]) => [<dt key={label}>{label}</dt>, <dd key={label + "v"} style={{ textAlign: "left" }}><Button bare onPress={() => onAsk(withLabel(asked, label, value))}>{value}</Button></dd>])}</dl>
        <p style={{ margin: "4px 0" }}><Quiet>Choosing a value adds a step to the enquiry.</Quiet></p>
      </>}
      <h3>Where it comes from</h3>
      {origins.error && <Trouble error={origins.error} />}
      {origins.isLoading && <Quiet>Looking it up</Quiet>}
      {data && <>
        <Quiet>{data.revision ? `Revision ${data.revision} of the collection${data.since ? `, rolled out ${ago(Date.parse(data.since), Date.now())}` : ""}.` : "Nothing is collected from this cluster by agents."} {data.total === 0 ? "No expected source gives it now." : data.total === 1 ? "One source." : `${data.total} sources${data.total > data.origins.length ? `, the first ${data.origins.length} shown` : ""}.`}</Quiet>
        {data.origins.map((origin) => (
          <Origin key={`${origin.signal} ${origin.source}`}>
            {origin.state && <Mark level={levels[origin.state] ?? "warning"} title={words[origin.state]} />}
            <b>{origin.source ?? "not named by its sender"}</b>
            <dl>
              <dt>sent by</dt><dd>{origin.sentBy}</dd>
              {origin.agent && <><dt>agent</dt><dd>{origin.agent}</dd></>}
              {origin.target && <><dt>read from</dt><dd>{origin.target}</dd></>}
              {origin.series > 0 && <><dt>series</dt><dd>{origin.series}</dd></>}
              {origin.state && <><dt>arrives</dt><dd>{words[origin.state]}{origin.cause ? `: ${origin.cause}` : ""}</dd></>}
            </dl>
            {origin.rights.length > 0 && <ul>{origin.rights.map((right) => <li key={right}>{right}</li>)}</ul>}
          </Origin>
        ))}
        {data.total > 0 && <Button onPress={() => navigate({ pathname: "/arrivals", search: new URLSearchParams({ cluster }).toString() })}>See Arrivals</Button>}
      </>}
    </Drawer>
  );
}
