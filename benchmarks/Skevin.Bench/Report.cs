using System.Diagnostics;
using System.Globalization;
using System.Text;

namespace Skevin.Bench;

/// <summary>What was measured, as a page.</summary>
public sealed class Report
{
    private readonly List<(string What, string Measured, string Wanted, bool? Met)> _rows = [];

    /// <summary>Notes a figure with the bound it is held against.</summary>
    public void Add(string what, double measured, string unit, double wanted, bool atLeast = true, string remark = "")
    {
        var met = atLeast ? measured >= wanted : measured <= wanted;
        _rows.Add((what, $"{Number(measured)}{unit}{(remark.Length > 0 ? ", " + remark : "")}", $"{(atLeast ? "≥" : "≤")} {Number(wanted)}{unit}", met));
        Console.WriteLine($"{(met ? "  " : "! ")}{what}: {_rows[^1].Measured} ({_rows[^1].Wanted})");
    }

    /// <summary>Notes a figure without a bound.</summary>
    public void Tell(string what, string measured)
    {
        _rows.Add((what, measured, "", null));
        Console.WriteLine($"  {what}: {measured}");
    }

    /// <summary>Writes the page.</summary>
    public void Write(string file, string dataSet)
    {
        var page = new StringBuilder();
        page.AppendLine("# Performance").AppendLine();
        page.AppendLine($"Measured by `./bench` on {DateTime.UtcNow:yyyy-MM-dd} on {Environment.ProcessorCount} cores of {Processor()}, {GC.GetGCMemoryInfo().TotalAvailableMemoryBytes >> 30} GiB, PostgreSQL on the same machine.");
        page.AppendLine("Ratios are of two things measured in the same run. The seed is fixed; everything is pushed over HTTP as an agent does, and counts as accepted when it is committed.").AppendLine();
        page.AppendLine("| What | Measured | Wanted | |").AppendLine("|---|---|---|---|");
        foreach (var (what, measured, wanted, met) in _rows)
            page.AppendLine($"| {what} | {measured} | {wanted} | {met switch { true => "met", false => "**not met**", _ => "" }} |");
        page.AppendLine().AppendLine(dataSet);
        File.WriteAllText(file, page.ToString());
    }

    /// <summary>How long something takes: the least of several times, in seconds.</summary>
    public static async Task<double> Least(int times, Func<Task> what)
    {
        var least = double.PositiveInfinity;
        for (var i = 0; i < times; i++)
        {
            var watch = Stopwatch.StartNew();
            await what();
            least = Math.Min(least, watch.Elapsed.TotalSeconds);
        }
        return least;
    }

    private static string Number(double number) => number >= 1000 ? number.ToString("N0", CultureInfo.InvariantCulture) : number.ToString(number >= 100 ? "0" : number >= 10 ? "0.0" : "0.00", CultureInfo.InvariantCulture);

    private static string Processor() =>
        File.ReadLines("/proc/cpuinfo").FirstOrDefault(line => line.StartsWith("model name", StringComparison.Ordinal))?.Split(':')[1].Trim() ?? "an unnamed processor";
}
