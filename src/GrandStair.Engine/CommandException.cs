namespace GrandStair.Engine;

/// <summary>A command that cannot be carried out as things are.</summary>
/// <param name="name">A stable name, such as <c>unknown-plan</c>.</param>
/// <param name="message">What is wrong, and what to do.</param>
public sealed class CommandException(string name, string message) : Exception(message)
{
    /// <summary>A stable name.</summary>
    public string Name { get; } = name;
}
