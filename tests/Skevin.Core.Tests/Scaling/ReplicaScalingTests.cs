using CsCheck;
using Skevin.Core.Scaling;

namespace Skevin.Core.Tests.Scaling;

public sealed class ReplicaScalingTests
{
    [Theory]
    // The cluster's documentation, "Horizontal Pod Autoscaling", algorithm details (from memory): 200m against 100m doubles, 50m halves, within 0.1 of 1 nothing happens.
    [InlineData(2, 200, 100, 4)]
    [InlineData(2, 50, 100, 1)]
    [InlineData(4, 109, 100, 4)]
    [InlineData(4, 91, 100, 4)]
    [InlineData(3, 120, 100, 4)]
    [InlineData(10, 88, 100, 9)]
    [InlineData(0, 500, 100, 0)]
    public void The_documentations_examples(int current, double use, double target, int wanted) => ReplicaScaling.Wanted(current, use, target).ShouldBe(wanted);

    [Fact]
    public void Fewer_only_when_fewer_was_wanted_all_the_while_and_more_at_most_twice_as_many_or_four() =>
        Gen.Select(Gen.Int[1, 20], Gen.Int[1, 60].Array[1, 20], Gen.Int[1, 5], Gen.Int[5, 40]).Sample((current, lately, least, most) =>
        {
            var set = ReplicaScaling.Set(current, lately, least, most);
            set.ShouldBeInRange(least, most);
            if (set < current && set != most)
                lately.ShouldAllBe(wanted => wanted <= set || set == least);
            set.ShouldBeLessThanOrEqualTo(Math.Max(least, Math.Max(2 * current, current + 4)));
            // Many pods are set only where they are wanted now, or were there already.
            if (set > current && set != least)
                lately[^1].ShouldBeGreaterThanOrEqualTo(set);
        });
}
