// An outside sender: the OpenTelemetry SDK of npm pushes to the server unchanged.
import assert from "node:assert/strict";
import { test } from "node:test";
import { OTLPMetricExporter as JsonExporter } from "@opentelemetry/exporter-metrics-otlp-http";
import { OTLPMetricExporter as ProtobufExporter } from "@opentelemetry/exporter-metrics-otlp-proto";
import { resourceFromAttributes } from "@opentelemetry/resources";
import { MeterProvider, PeriodicExportingMetricReader } from "@opentelemetry/sdk-metrics";
import { base, until } from "./page.mjs";

async function signedIn() {
  const answer = await fetch(`${base}/api/session`, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify({ email: "amsel@larkfield.example", password: process.env.SKEVIN_DEMO_PASSWORD }) });
  assert.equal(answer.status, 204);
  const cookie = answer.headers.getSetCookie()[0].split(";")[0];
  return (path, body) => fetch(base + path, { method: body ? "POST" : "GET", headers: { cookie, "content-type": "application/json" }, body: body && JSON.stringify(body) }).then(async (reply) => ({ status: reply.status, json: await reply.json() }));
}

for (const [form, Exporter] of [["protobuf", ProtobufExporter], ["JSON", JsonExporter]])
  test(`the SDK's ${form} exporter is understood`, async () => {
    const api = await signedIn();
    const made = await api("/api/tokens", { name: `sdk ${form}`, cluster: "larkfield-north" });
    assert.equal(made.status, 201);
    const reader = new PeriodicExportingMetricReader({ exporter: new Exporter({ url: `${base}/v1/metrics`, headers: { authorization: `Bearer ${made.json.token}` } }), exportIntervalMillis: 3_600_000 });
    const provider = new MeterProvider({ readers: [reader], resource: resourceFromAttributes({ "service.name": "weighbridge", "k8s.namespace.name": "intake", form }) });
    const meter = provider.getMeter("scales");
    const counter = meter.createCounter("crates.weighed", { unit: "{crate}" });
    counter.add(3, { quality: "A" });
    counter.add(4, { quality: "A" });
    counter.add(5, { quality: "B" });
    await provider.forceFlush();
    const text = `crates.weighed -> where form = "${form}"`;
    const answer = await until(async () => {
      const reply = await api("/api/ask", { text, from: new Date(Date.now() - 120_000), to: new Date(Date.now() + 60_000), cluster: "larkfield-north" });
      return reply.status === 200 && reply.json.series.length === 2 ? reply.json : null;
    }, 20, "the counter");
    const last = Object.fromEntries(answer.series.map((series) => [series.labels.quality, series.points.map(([, value]) => value).filter((value) => value !== null).at(-1)]));
    assert.deepEqual(last, { A: 7, B: 5 });
    assert.equal(answer.unit, "{crate}");
    assert.equal(answer.series[0].labels["service.name"], "weighbridge");
    await provider.shutdown();
  });
