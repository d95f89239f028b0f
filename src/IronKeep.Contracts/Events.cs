namespace IronKeep.Contracts;

/// <summary>What an event is about; hello says that the stream stands, or that something may have been missed.</summary>
public enum Topic
{
    Hello,
    Run,
    Alert,
    Copies,
    Charter,
}

/// <summary>What the event stream carries: topic is run, alert, copies or charter; run comes with the run as it is now.</summary>
public sealed record KeepEvent(Topic Topic, RunAnswer? Run);
