using Skevin.Core.Access;

namespace Skevin.Core.Tests.Access;

public sealed class AccessScopeTests
{
    private static AccessScope Scope(string? clusters, string? namespaces) => new(clusters?.Split(',').ToHashSet(), namespaces?.Split(',').ToHashSet());

    [Theory]
    // architecture.md, "Who may see what": data without a namespace is for readers of the whole cluster only.
    [InlineData(null, null, "north", "auction", true)]
    [InlineData(null, null, "north", null, true)]
    [InlineData("north", null, "north", null, true)]
    [InlineData("north", null, "south", "auction", false)]
    [InlineData("north", "auction", "north", "auction", true)]
    [InlineData("north", "auction", "north", "payout", false)]
    [InlineData("north", "auction", "north", null, false)]
    [InlineData(null, "auction", "south", "auction", true)]
    public void A_scope_opens_clusters_and_namespaces(string? clusters, string? namespaces, string cluster, string? ns, bool sees) =>
        Scope(clusters, namespaces).Sees(cluster, ns).ShouldBe(sees);

    [Fact]
    public void Nobody_sees_everything_by_an_empty_list()
    {
        new AccessScope(new HashSet<string>(), null).Sees("north").ShouldBeFalse();
        new AccessScope(null, new HashSet<string>()).Sees("north", "auction").ShouldBeFalse();
        AccessScope.Everything.Sees("north", null).ShouldBeTrue();
    }

    [Fact]
    public void All_roles_are_the_sum_of_the_single_ones() =>
        Enum.GetValues<Roles>().Where(role => role != Roles.All).Aggregate(Roles.None, (sum, role) => sum | role).ShouldBe(Roles.All);
}
