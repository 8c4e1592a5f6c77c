using OpenTelemetry.Proto.Common.V1;

namespace Skevin.Bench;

/// <summary>Pieces of OTLP requests.</summary>
internal static class Otlp
{
    public static IEnumerable<KeyValue> Attributes(params (string, string)[] pairs) => pairs.Select(pair => new KeyValue { Key = pair.Item1, Value = new AnyValue { StringValue = pair.Item2 } });
}

/// <summary>A clock that is ahead, so that what would have to wait is done now.</summary>
internal sealed class Ahead(TimeSpan by) : TimeProvider
{
    public override DateTimeOffset GetUtcNow() => DateTimeOffset.UtcNow + by;
}
