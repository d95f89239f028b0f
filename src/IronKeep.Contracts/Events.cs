namespace IronKeep.Contracts;

/// <summary>What the event stream carries: topic is run, alert, copies or charter; run comes with the run as it is now.</summary>
public sealed record KeepEvent(string Topic, RunAnswer? Run);
