// An outside sender: the OpenTelemetry SDK of npm pushes to the server unchanged.
import assert from "node:assert/strict";
import { test } from "node:test";
import { OTLPMetricExporter as JsonExporter } from "@opentelemetry/exporter-metrics-otlp-http";
import { OTLPMetricExporter as ProtobufExporter } from "@opentelemetry/exporter-metrics-otlp-proto";
import { OTLPLogExporter as JsonLogs } from "@opentelemetry/exporter-logs-otlp-http";
import { OTLPLogExporter as ProtobufLogs } from "@opentelemetry/exporter-logs-otlp-proto";
import { OTLPTraceExporter as JsonTraces } from "@opentelemetry/exporter-trace-otlp-http";
import { OTLPTraceExporter as ProtobufTraces } from "@opentelemetry/exporter-trace-otlp-proto";
import { resourceFromAttributes } from "@opentelemetry/resources";
import { LoggerProvider, SimpleLogRecordProcessor } from "@opentelemetry/sdk-logs";
import { MeterProvider, PeriodicExportingMetricReader } from "@opentelemetry/sdk-metrics";
import { BasicTracerProvider, SimpleSpanProcessor } from "@opentelemetry/sdk-trace-base";
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

for (const [form, Traces, Logs] of [["protobuf", ProtobufTraces, ProtobufLogs], ["JSON", JsonTraces, JsonLogs]])
  test(`spans and log records of the SDK in ${form} are understood`, async () => {
    const api = await signedIn();
    const { json: { token } } = await api("/api/tokens", { name: `sdk spans ${form}`, cluster: "larkfield-north" });
    const headers = { authorization: `Bearer ${token}` };
    const resource = resourceFromAttributes({ "service.name": "weighbridge", "k8s.namespace.name": "intake", form });
    const tracers = new BasicTracerProvider({ resource, spanProcessors: [new SimpleSpanProcessor(new Traces({ url: `${base}/v1/traces`, headers }))] });
    const span = tracers.getTracer("scales").startSpan("weigh a crate", { kind: 1, attributes: { crate: "C-7" } });
    span.recordException(new Error("scale not level"));
    span.setStatus({ code: 2, message: "not weighed" });
    const trace = span.spanContext().traceId;
    span.end();
    await tracers.forceFlush();
    const loggers = new LoggerProvider({ resource, processors: [new SimpleLogRecordProcessor({ exporter: new Logs({ url: `${base}/v1/logs`, headers }) })] });
    loggers.getLogger("scales").emit({ severityNumber: 17, body: `crate C-7 was not weighed, ${form}`, attributes: { crate: "C-7" } });
    await loggers.forceFlush();
    const seen = await until(async () => { const reply = await api(`/api/traces/${trace}`); return reply.status === 200 ? reply.json.spans[0] : null; }, 20, "the span");
    assert.deepEqual([seen.name, seen.kind, seen.status, seen.message, seen.workload, seen.attributes.crate, seen.exception.message], ["weigh a crate", "server", "error", "not weighed", "weighbridge", "C-7", "scale not level"]);
    const window = { from: new Date(Date.now() - 120_000), to: new Date(Date.now() + 60_000), cluster: "larkfield-north" };
    const line = await until(async () => { const reply = await api("/api/ask", { text: `logs -> where form = "${form}" and crate = "C-7" -> show level, text`, ...window }); return reply.json.rows?.length === 1 ? reply.json.rows[0] : null; }, 20, "the line");
    assert.deepEqual(line, ["error", `crate C-7 was not weighed, ${form}`]);
    await Promise.all([tracers.shutdown(), loggers.shutdown()]);
  });
