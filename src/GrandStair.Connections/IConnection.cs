using System.Collections.ObjectModel;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;

namespace GrandStair.Connections;

/// <summary>An order as it goes out to a machine.</summary>
/// <param name="Name">Its name: the same name again is the same order.</param>
/// <param name="Epoch">The claim under which it goes out; a machine refuses any lower one than it knows.</param>
/// <param name="Kind">What kind of step it is.</param>
/// <param name="Script">The script's content; empty for a kind of step that the connection knows how to do itself.</param>
/// <param name="Values">What the script needs to know, by name; no value has a line break.</param>
public sealed record PostedOrder(OrderName Name, long Epoch, StepKind Kind, string Script, IReadOnlyDictionary<string, string> Values)
{
    /// <summary>The secrets that the script needs, by name. They are kept on no disk, neither here nor on the machine.</summary>
    public IReadOnlyDictionary<string, string> Secrets { get; init; } = ReadOnlyDictionary<string, string>.Empty;

    /// <summary>The media that earlier steps fetched to the machine, for a script that installs from it.</summary>
    public IReadOnlyList<MediaOnMachine> Media { get; init; } = [];
}

/// <summary>A file of media on a machine.</summary>
/// <param name="Name">The media's name in the catalogue.</param>
/// <param name="Sha256">The SHA-256 of the file.</param>
/// <param name="File">Its file name.</param>
public sealed record MediaOnMachine(string Name, string Sha256, string File);

/// <summary>How an order stands on its machine.</summary>
public enum OrderState
{
    /// <summary>The machine has never got it.</summary>
    Unseen,

    /// <summary>It is being done.</summary>
    Running,

    /// <summary>It has ended, with an exit status.</summary>
    Ended,

    /// <summary>It was begun, and is neither being done nor has it a result.</summary>
    Gone,
}

/// <summary>What a machine says of an order.</summary>
/// <param name="State">How it stands.</param>
/// <param name="Exit">The exit status; null unless it has ended.</param>
/// <param name="Share">The share done, 0 to 1; null where it is not known.</param>
/// <param name="Note">What it says of itself, or the last lines of its output.</param>
/// <param name="AskNext">When it is worth asking again, UTC; null where the connection has no opinion.</param>
/// <param name="Lasted">How long it was running by the machine's own clock; null before it has ended, and where that is not known.</param>
public sealed record OrderStatus(
    OrderState State,
    int? Exit,
    double? Share,
    string Note,
    DateTimeOffset? AskNext = null,
    TimeSpan? Lasted = null
)
{
    /// <summary>The most that is fetched of an order's output at once, in bytes.</summary>
    public const int MostOfOutput = 256 << 10;

    /// <summary>How much it has printed so far, in bytes.</summary>
    public long Printed { get; init; }
}

/// <summary>Why a machine could not be reached or a command failed. It says nothing about the result of an order.</summary>
/// <param name="name">A stable name: <c>unreachable</c>, <c>host-key-unknown</c>, <c>host-key-changed</c>, <c>login-refused</c>,
/// <c>rights</c>, <c>secret</c> or <c>epoch</c>.</param>
/// <param name="message">What happened, and what to do.</param>
public sealed class ConnectionException(string name, string message, Exception? inner = null) : Exception(message, inner)
{
    /// <summary>A stable name.</summary>
    public string Name { get; } = name;
}

/// <summary>What a reading script printed.</summary>
/// <param name="Text">Its output.</param>
/// <param name="Incomplete">Why the output is not all that the script had to say; null where it is. Of an incomplete one nothing may be
/// taken for read.</param>
public sealed record ScriptOutput(string Text, string? Incomplete = null);

/// <summary>How machines of one kind are reached. It carries orders; what fails is thrown as <see cref="ConnectionException"/>.</summary>
public interface IConnection
{
    /// <summary>The kind of connection, as machines name it.</summary>
    string Kind { get; }

    /// <summary>Runs reading scripts on a machine and returns what each of them printed, in their order.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="scripts">The scripts.</param>
    /// <param name="wanted">The keys that are wanted, which scripts find in their variable <c>wanted</c>; empty for all that they
    /// read.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <exception cref="ConnectionException">The machine could not be read.</exception>
    Task<IReadOnlyList<ScriptOutput>> ReadAsync(
        Machine machine,
        IReadOnlyList<string> scripts,
        IReadOnlyCollection<string> wanted,
        CancellationToken stop
    );

    /// <summary>Hands an order to a machine. The same order may be posted as often as one likes; it is done once.</summary>
    /// <exception cref="ConnectionException">It is not known whether the machine got it; or the machine knows a higher epoch
    /// (<c>epoch</c>).</exception>
    Task PostAsync(Machine machine, PostedOrder order, CancellationToken stop);

    /// <summary>Asks a machine how an order stands.</summary>
    /// <exception cref="ConnectionException">The machine could not be asked.</exception>
    Task<OrderStatus> AskAsync(Machine machine, OrderName order, CancellationToken stop);

    /// <summary>Fetches what an order has printed from some place on, at most <see cref="OrderStatus.MostOfOutput"/>.</summary>
    /// <param name="machine">The machine.</param>
    /// <param name="order">The order.</param>
    /// <param name="from">Where to begin, in bytes from the first.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>The bytes; none where it has not printed more.</returns>
    /// <exception cref="ConnectionException">The machine could not be asked.</exception>
    Task<byte[]> OutputAsync(Machine machine, OrderName order, long from, CancellationToken stop);
}
