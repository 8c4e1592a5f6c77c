using Xunit.Sdk;
using Xunit.v3;

[assembly: TestCollectionOrderer(typeof(Skevin.Server.Tests.LongestFirst))]

namespace Skevin.Server.Tests;

/// <summary>What takes longest begins first, so that no single test is waited for at the end.</summary>
public sealed class LongestFirst : ITestCollectionOrderer
{
    private static readonly string[] First = ["FaultTests", "TellingTests", "AlarmTests", "PathTests", "HistoryTests", "RollOutTests", "DestinationTests", "OrderTests"];

    /// <inheritdoc/>
    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections) where TTestCollection : ITestCollection =>
        [.. testCollections.OrderBy(collection => Array.FindIndex(First, name => collection.TestCollectionDisplayName.Contains($".{name} ", StringComparison.Ordinal) || collection.TestCollectionDisplayName.EndsWith("." + name, StringComparison.Ordinal)) is >= 0 and var at ? at : First.Length)];
}
