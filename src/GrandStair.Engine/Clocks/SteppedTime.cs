namespace GrandStair.Engine.Clocks;

/// <summary>
/// Moves domain time on when the engine is idle: when every duty and every worker waits, nothing has been changed since each of them last
/// looked, and nothing runs beside them. Time then steps to the earliest moment that one of them waits for. So a plan goes as fast as the
/// processor allows, and its course does not depend on how fast that is.
/// </summary>
public sealed class SteppedTime
{
    private readonly Lock _lock = new();
    private readonly List<Turn> _turns = [];
    private long _changes;
    private int _running;
    private TaskCompletionSource _isIdle = new(TaskCreationOptions.RunContinuationsAsynchronously);

    /// <summary>Opens domain time at a moment.</summary>
    /// <param name="begin">The moment, UTC.</param>
    /// <param name="pace">How many seconds of it pass in a real one at most; infinite for no limit.</param>
    public SteppedTime(DateTimeOffset begin, double pace = double.PositiveInfinity) => (Now, Pace) = (begin, pace);

    /// <summary>The present moment, UTC.</summary>
    public DateTimeOffset Now { get; private set; }

    /// <summary>How many seconds of domain time pass in a real one at most; infinite for no limit.</summary>
    public double Pace { get; set; }

    /// <summary>How many have to be waiting before time moves.</summary>
    public int Turns
    {
        get
        {
            lock (_lock)
                return _turns.Count;
        }
    }

    /// <summary>Adds somebody who has to be waiting before time moves.</summary>
    public Turn Join()
    {
        var turn = new Turn(this);
        lock (_lock)
            _turns.Add(turn);
        return turn;
    }

    /// <summary>Notes that something was changed, at which everybody who waits has to look again.</summary>
    public void NoteChange()
    {
        lock (_lock)
        {
            _changes++;
            WakeAll();
        }
    }

    /// <summary>Keeps time from moving until it is disposed of: work that goes on beside those who wait.</summary>
    public IDisposable Run()
    {
        lock (_lock)
            _running++;
        return new Running(this);
    }

    /// <summary>Waits until the engine is idle.</summary>
    public async Task UntilIdleAsync(CancellationToken stop)
    {
        while (true)
        {
            Task idle;
            lock (_lock)
            {
                if (IsIdle)
                    return;
                if (_isIdle.Task.IsCompleted)
                    _isIdle = new(TaskCreationOptions.RunContinuationsAsynchronously);
                idle = _isIdle.Task;
            }

            await idle.WaitAsync(stop);
        }
    }

    /// <summary>Steps to the earliest moment that somebody waits for.</summary>
    /// <returns>Whether it did; not where the engine is busy, or nobody waits for any moment.</returns>
    public bool Step()
    {
        lock (_lock)
        {
            if (!IsIdle || _turns.Min(t => t.Next) is not { } next)
                return false;
            StepTo(next);
            return true;
        }
    }

    /// <summary>
    /// Lets time pass, where the engine is idle: up to the earliest moment that somebody waits for, and no further than some length.
    /// </summary>
    /// <param name="most">How much time passes at most.</param>
    /// <returns>How much passed; none where the engine is busy.</returns>
    public TimeSpan Advance(TimeSpan most)
    {
        lock (_lock)
        {
            if (!IsIdle)
                return TimeSpan.Zero;
            var before = Now;
            if (_turns.Min(t => t.Next) is { } next && next <= Now + most)
                StepTo(next);
            else
                Now += most;
            return Now - before;
        }
    }

    private void StepTo(DateTimeOffset next)
    {
        // Whoever waits for a moment that is over would wait for ever.
        Now = next > Now ? next : Now.AddSeconds(1);
        foreach (var turn in _turns.Where(t => t.Next <= Now))
            turn.Wake();
    }

    /// <summary>Whether the engine is idle and nobody waits for any moment: nothing more happens by itself.</summary>
    public bool IsAtItsEnd
    {
        get
        {
            lock (_lock)
                return IsIdle && _turns.All(t => t.Next is null);
        }
    }

    private bool IsIdle => _running == 0 && _turns.All(t => t.IsWaiting);

    private void WakeAll()
    {
        foreach (var turn in _turns)
            turn.Wake();
    }

    private void Leave(Turn turn)
    {
        lock (_lock)
        {
            _turns.Remove(turn);
            TellIdle();
        }
    }

    private void TellIdle()
    {
        if (IsIdle)
            _isIdle.TrySetResult();
    }

    /// <summary>Somebody for whom time waits.</summary>
    public sealed class Turn : IDisposable
    {
        private readonly SteppedTime _time;
        private TaskCompletionSource? _waiting;
        private long _seen;

        internal Turn(SteppedTime time) => _time = time;

        internal bool IsWaiting => _waiting is not null;

        internal DateTimeOffset? Next { get; private set; }

        /// <summary>Begins a look; what is changed from here on asks for another.</summary>
        public void Begin()
        {
            lock (_time._lock)
                _seen = _time._changes;
        }

        /// <summary>Waits for a moment, or for a change; returns at once where something was changed since the look began.</summary>
        /// <param name="next">The moment, UTC; null for none.</param>
        /// <param name="stop">Ends the wait.</param>
        public async Task WaitAsync(DateTimeOffset? next, CancellationToken stop)
        {
            TaskCompletionSource waiting;
            lock (_time._lock)
            {
                if (_seen != _time._changes)
                    return;
                Next = next;
                waiting = _waiting = new(TaskCreationOptions.RunContinuationsAsynchronously);
                _time.TellIdle();
            }

            await using var ended = stop.Register(() => waiting.TrySetCanceled(stop));
            await waiting.Task;
        }

        /// <summary>Waits until a moment, whatever is changed meanwhile; without a moment until the next change.</summary>
        /// <param name="until">The moment, UTC, which is to come; null for none.</param>
        /// <param name="stop">Ends the wait.</param>
        public async Task PassAsync(DateTimeOffset? until, CancellationToken stop)
        {
            do
            {
                Begin();
                await WaitAsync(until, stop);
            } while (_time.Now < until);
        }

        /// <inheritdoc />
        public void Dispose() => _time.Leave(this);

        internal void Wake()
        {
            _waiting?.TrySetResult();
            _waiting = null;
        }
    }

    private sealed class Running(SteppedTime time) : IDisposable
    {
        public void Dispose()
        {
            lock (time._lock)
            {
                time._running--;
                time.TellIdle();
            }
        }
    }
}
