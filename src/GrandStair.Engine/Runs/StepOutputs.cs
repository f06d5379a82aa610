using System.Text;
using GrandStair.Connections;
using GrandStair.Core.Catalogue;
using GrandStair.Core.Readings;
using GrandStair.Core.Runs;
using GrandStair.Engine.Secrets;
using GrandStair.Storage.Runs;

namespace GrandStair.Engine.Runs;

/// <summary>Keeps what the scripts of steps print, without the secrets that they were given: they may have printed them.</summary>
public sealed class StepOutputs(RunOutputTable outputs, ISecrets secrets, TimeProvider clock)
{
    // What is shorter than this is no secret, and would be found in many words.
    private const int ShortestMasked = 4;

    // While a script runs, one look fetches so many pieces at most; the next goes on there.
    private const int MostPieces = 4;

    /// <summary>What a script says last, without secrets.</summary>
    public async Task<OrderStatus> MaskAsync(OrderStatus status, StepSpec step, CancellationToken stop)
    {
        ArgumentNullException.ThrowIfNull(status);
        ArgumentNullException.ThrowIfNull(step);
        return status with { Note = Mask(status.Note, await HiddenAsync(step, stop)) };
    }

    /// <summary>Fetches what an order has printed since the last look; once it has ended, all of it.</summary>
    /// <param name="connection">How its machine is reached.</param>
    /// <param name="machine">Its machine.</param>
    /// <param name="order">The order.</param>
    /// <param name="step">Its step.</param>
    /// <param name="status">How it stands.</param>
    /// <param name="kept">How many bytes are kept; null where that is not known.</param>
    /// <param name="stop">Ends the wait.</param>
    /// <returns>How many bytes are kept now.</returns>
    /// <exception cref="ConnectionException">The machine could not be asked; what was fetched by then is kept.</exception>
    public async Task<long> KeepAsync(
        IConnection connection,
        Machine machine,
        OrderName order,
        StepSpec step,
        OrderStatus status,
        long? kept,
        CancellationToken stop
    )
    {
        ArgumentNullException.ThrowIfNull(connection);
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(status);
        if (status.Printed == 0)
            return 0;
        var from = kept ?? await outputs.KeptAsync(order, stop);
        if (from >= status.Printed)
            return from;
        var isOver = status.State != OrderState.Running;
        var hidden = await HiddenAsync(step, stop);
        for (var pieces = 0; from < Math.Min(status.Printed, OutputText.Most) && (isOver || pieces < MostPieces); pieces++)
        {
            var piece = await connection.OutputAsync(machine, order, from, stop);
            var length = OutputText.WholeLines(
                piece,
                isOver && from + piece.Length >= status.Printed,
                piece.Length >= OrderStatus.MostOfOutput
            );
            if (length == 0)
                break;
            await outputs.AddAsync(order, from, length, Mask(Encoding.UTF8.GetString(piece, 0, length), hidden), clock.GetUtcNow(), stop);
            from += length;
        }

        return from;
    }

    private static string Mask(string text, IReadOnlyList<(string Name, string Line)> hidden)
    {
        foreach (var (name, line) in hidden)
            text = text.Replace(line, $"({name})", StringComparison.Ordinal);
        return text;
    }

    private async Task<IReadOnlyList<(string Name, string Line)>> HiddenAsync(StepSpec step, CancellationToken stop)
    {
        var hidden = new List<(string, string)>();
        foreach (var name in step.Secrets)
            hidden.AddRange(
                (await secrets.OfAsync(name, stop))
                    .Split('\n')
                    .Select(l => l.Trim())
                    .Where(l => l.Length >= ShortestMasked)
                    .Select(l => (name, l))
            );
        return hidden;
    }
}
