using Skevin.Core.Arrivals;

namespace Skevin.Core.Diagnosis;

/// <summary>Data arrives, but it is still old: a buffer or a back-fill is being worked off.</summary>
public sealed class CatchingUp : IDiagnosisRule
{
    /// <inheritdoc/>
    public Cause? Find(JudgedSource source)
    {
        if (source.State != ArrivalState.Partial || source.Evidence.Record is not { } record)
            return null;
        var behind = record.LastReceived - record.NewestData;
        return behind < TimeSpan.FromMinutes(2)
            ? new Cause(
                "minutes are missing",
                $"It arrives now, but {source.ExpectedMinutes - source.ReceivedMinutes} of the last hour's {source.ExpectedMinutes} minutes have no data.",
                "Nothing to do if collection was off or starting then; the hour fills by itself.",
                CureAct.None,
                [$"newest data {record.NewestData:HH:mm:ss}, received {record.LastReceived:HH:mm:ss}"])
            : new Cause(
                "catching up",
                $"Older data is being sent first: it has come to {record.NewestData:HH:mm} UTC, {behind.TotalMinutes:0} min behind the clock.",
                "Wait; it catches up by itself.",
                CureAct.None,
                [$"newest data {record.NewestData:HH:mm:ss}, received {record.LastReceived:HH:mm:ss}"]);
    }
}
