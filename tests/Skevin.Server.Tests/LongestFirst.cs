using Xunit.Sdk;
using Xunit.v3;

[assembly: TestCollectionOrderer(typeof(Skevin.Server.Tests.LongestFirst))]

namespace Skevin.Server.Tests;

/// <summary>What waits longest begins first, so that no single test is waited for at the end. What computes most is not among them: beside it others would be late.</summary>
public sealed class LongestFirst : ITestCollectionOrderer
{
    private static readonly string[] First = ["FaultTests", "TellingTests", "PathTests"];

    /// <inheritdoc/>
    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections) where TTestCollection : ITestCollection =>
        [.. testCollections.OrderBy(collection => Array.FindIndex(First, name => collection.TestCollectionDisplayName.Contains($".{name} ", StringComparison.Ordinal) || collection.TestCollectionDisplayName.EndsWith("." + name, StringComparison.Ordinal)) is >= 0 and var at ? at : First.Length)];
}
