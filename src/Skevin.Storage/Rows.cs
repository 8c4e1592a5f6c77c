using Microsoft.AspNetCore.Identity;
using Skevin.Core.Access;
using Skevin.Core.Alarms;

namespace Skevin.Storage;

/// <summary>A person who may sign in.</summary>
public sealed class Person : IdentityUser
{
    /// <summary>Name shown in the page.</summary>
    public string Name { get; set; } = "";

    /// <summary>What they may do.</summary>
    public Roles Roles { get; set; }

    /// <summary>Clusters they may see; null for all.</summary>
    public List<string>? Clusters { get; set; }

    /// <summary>Namespaces they may see; null for whole clusters.</summary>
    public List<string>? Namespaces { get; set; }
}

/// <summary>A connected cluster.</summary>
public sealed class ClusterRow
{
    public int Id { get; set; }
    public required string Name { get; set; }

    /// <summary>Encrypted; see the data protection keys.</summary>
    public required string ProtectedKubeconfig { get; set; }
    public required string Address { get; set; }
    public DateTimeOffset ConnectedAt { get; set; }
    public required string ConnectedBy { get; set; }
}

/// <summary>A revision of a cluster's collection plan.</summary>
public sealed class PlanRevisionRow
{
    public int Id { get; set; }
    public int ClusterId { get; set; }
    public int Revision { get; set; }

    /// <summary>The plan as JSON.</summary>
    public required string Plan { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public required string CreatedBy { get; set; }

    /// <summary>When all objects had been applied; null where that failed.</summary>
    public DateTimeOffset? AppliedAt { get; set; }

    /// <summary>When its objects were taken out of the cluster; null while they are in it.</summary>
    public DateTimeOffset? RemovedAt { get; set; }
}

/// <summary>A machine outside of clusters on which an agent runs as a service.</summary>
public sealed class MachineRow
{
    public int Id { get; set; }

    /// <summary>The cluster beside which its data stand.</summary>
    public int ClusterId { get; set; }
    public required string Name { get; set; }

    /// <summary>The token by which its agent is known.</summary>
    public Guid TokenId { get; set; }
    public int Revision { get; set; }

    /// <summary>Its plan as JSON.</summary>
    public required string Plan { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public required string CreatedBy { get; set; }

    /// <summary>When its agent asked for the plan first, and last, and which revision it was given; null while it never has.</summary>
    public DateTimeOffset? InstalledAt { get; set; }
    public DateTimeOffset? AskedAt { get; set; }
    public int? AskedRevision { get; set; }
}

/// <summary>A token that may push. Only its hash is kept.</summary>
public sealed class IngestTokenRow
{
    /// <summary>Samples, lines, spans and flows it may send a second; null for any number.</summary>
    public int? ItemsPerSecond { get; set; }

    public Guid Id { get; set; }
    public required string Name { get; set; }
    public int ClusterId { get; set; }

    /// <summary>SHA-256 of the token, which is itself 32 random bytes.</summary>
    public required byte[] Hash { get; set; }

    /// <summary>Made by a roll-out for the cluster's own agents.</summary>
    public bool ForAgents { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public required string CreatedBy { get; set; }
    public DateTimeOffset? ExpiresAt { get; set; }

    /// <summary>Kept after it was revoked, so that a refused push can be explained.</summary>
    public DateTimeOffset? RevokedAt { get; set; }
}

/// <summary>An alert rule.</summary>
public sealed class AlarmRuleRow
{
    public Guid Id { get; set; }
    public int ClusterId { get; set; }
    public required string Name { get; set; }

    /// <summary>The rule as JSON.</summary>
    public required string Document { get; set; }
    public bool InForce { get; set; }
    public required string OwnerId { get; set; }
    public DateTimeOffset CreatedAt { get; set; }

    /// <summary>End of the last slot that was judged, epoch milliseconds.</summary>
    public long JudgedTo { get; set; }

    /// <summary>Why it cannot be judged, in words; null when it can.</summary>
    public string? Trouble { get; set; }
}

/// <summary>An alarm: one series of a rule, while it is not quiet.</summary>
public sealed class AlarmRow
{
    public Guid Id { get; set; }
    public Guid RuleId { get; set; }
    public int ClusterId { get; set; }

    /// <summary>Labels of the series as JSON, sorted by name.</summary>
    public required string Labels { get; set; }
    public AlarmState State { get; set; }
    public long Since { get; set; }
    public long RaisedAt { get; set; }
    public double? Worst { get; set; }
    public double? Value { get; set; }
    public required string Unit { get; set; }
    public Severity Severity { get; set; }
    public string? AcknowledgedBy { get; set; }
    public DateTimeOffset? AcknowledgedAt { get; set; }
    public DateTimeOffset? ShelvedUntil { get; set; }
}

/// <summary>A transition of an alarm, never rewritten.</summary>
public sealed class AlarmEventRow
{
    public Guid Id { get; set; }
    public Guid RuleId { get; set; }
    public Guid AlarmId { get; set; }
    public int ClusterId { get; set; }
    public required string RuleName { get; set; }
    public required string Labels { get; set; }
    public AlarmTransition Transition { get; set; }

    /// <summary>End of the slot that decided it.</summary>
    public DateTimeOffset At { get; set; }
    public DateTimeOffset RecordedAt { get; set; }
    public double? Value { get; set; }
    public required string Unit { get; set; }
    public Severity Severity { get; set; }
}

/// <summary>The verdicts of a rule on one slot: recorded once.</summary>
public sealed class RuleVerdictRow
{
    public Guid RuleId { get; set; }
    public long SlotEnd { get; set; }
    public DateTimeOffset JudgedAt { get; set; }

    /// <summary>JSON: for each series its labels, value and state after the slot.</summary>
    public required string Verdicts { get; set; }
}

/// <summary>The last drill of a rule.</summary>
public sealed class DrillRow
{
    public Guid RuleId { get; set; }

    /// <summary>Name of the practice fault.</summary>
    public required string Fault { get; set; }
    public required string BegunBy { get; set; }
    public DateTimeOffset BegunAt { get; set; }

    /// <summary>When whoever goes on with it did so last.</summary>
    public DateTimeOffset SeenAt { get; set; }
    public DateTimeOffset? EndedAt { get; set; }

    /// <summary>The rule as it was drilled and what was seen, as JSON.</summary>
    public required string Document { get; set; }
}

/// <summary>Somebody who can be told.</summary>
public sealed class ContactRow
{
    public int Id { get; set; }
    public required string Name { get; set; }

    /// <summary>Where messages are posted as JSON.</summary>
    public required string Url { get; set; }

    /// <summary>The secret messages are signed with, encrypted; null where they are not.</summary>
    public string? ProtectedSecret { get; set; }

    /// <summary>The form of messages to it; null for Skevin's own.</summary>
    public string? Template { get; set; }
}

/// <summary>People who are told together: who is on duty when, who is told next.</summary>
public sealed class TeamRow
{
    public int Id { get; set; }
    public required string Name { get; set; }

    /// <summary>The team as JSON.</summary>
    public required string Document { get; set; }
}

/// <summary>What a person wrote about an alarm. It outlives the alarm.</summary>
public sealed class AlarmNoteRow
{
    public Guid Id { get; set; }
    public Guid AlarmId { get; set; }
    public DateTimeOffset At { get; set; }
    public required string By { get; set; }
    public required string Text { get; set; }
}

/// <summary>A message about a transition, kept until and after it is delivered.</summary>
public sealed class MessageRow
{
    /// <summary>The same in every attempt, so that a receiver can tell a repeat.</summary>
    public Guid Id { get; set; }
    public Guid EventId { get; set; }
    public required string Contact { get; set; }
    public required string Url { get; set; }
    public required string Body { get; set; }
    public DateTimeOffset CreatedAt { get; set; }
    public DateTimeOffset NextTry { get; set; }
    public int Attempts { get; set; }
    public DateTimeOffset? DeliveredAt { get; set; }
    public string? LastError { get; set; }

    /// <summary>The alarm it is about; null for one about something else.</summary>
    public Guid? AlarmId { get; set; }

    /// <summary>The team through which its contact is told; null where the rule names the contact.</summary>
    public string? Team { get; set; }

    /// <summary>The team's step.</summary>
    public int Step { get; set; }

    /// <summary>Messages that are sent as one carry its id; null before the first attempt.</summary>
    public Guid? GroupId { get; set; }
}

/// <summary>Something that happened, for the time strip.</summary>
public sealed class MarkRow
{
    public Guid Id { get; set; }
    public int ClusterId { get; set; }
    public DateTimeOffset At { get; set; }

    /// <summary>rollout, restart, alarm.</summary>
    public required string Kind { get; set; }
    public required string Text { get; set; }
    public string? Namespace { get; set; }
}
