namespace GrandStair.Core.Refusals;

/// <summary>Why something is refused. The service's status codes and the client's exit codes follow from it.</summary>
public enum RefusalKind
{
    /// <summary>The request itself is wrong: a value, a format, something missing.</summary>
    Invalid,

    /// <summary>What it names does not exist.</summary>
    Unknown,

    /// <summary>As things are now it cannot be done: somebody was faster, or something has to be done first.</summary>
    Conflict,
}

/// <summary>A request that is refused, with a name for programs and a sentence for people.</summary>
public sealed class RefusedException : Exception
{
    private RefusedException(RefusalKind kind, string name, string message)
        : base(message) => (Kind, Name) = (kind, name);

    /// <summary>Why it is refused.</summary>
    public RefusalKind Kind { get; }

    /// <summary>A stable name, such as <c>unknown-plan</c>.</summary>
    public string Name { get; }

    /// <summary>The request itself is wrong.</summary>
    /// <param name="name">A stable name, such as <c>limit</c>.</param>
    /// <param name="message">What is wrong, what was expected, and what to do.</param>
    public static RefusedException Invalid(string name, string message) => new(RefusalKind.Invalid, name, message);

    /// <summary>What the request names does not exist.</summary>
    /// <param name="name">A stable name, such as <c>unknown-plan</c>.</param>
    /// <param name="message">What was not found, and what exists.</param>
    public static RefusedException Unknown(string name, string message) => new(RefusalKind.Unknown, name, message);

    /// <summary>It cannot be done as things are now.</summary>
    /// <param name="name">A stable name, such as <c>plan-started</c>.</param>
    /// <param name="message">What is in the way, and what to do.</param>
    public static RefusedException Conflict(string name, string message) => new(RefusalKind.Conflict, name, message);
}
