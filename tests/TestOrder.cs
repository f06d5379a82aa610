using System.Security.Cryptography;
using System.Text;
using GrandStair.Testing;
using Xunit;
using Xunit.Sdk;
using Xunit.v3;

[assembly: TestCollectionOrderer(typeof(TestOrder))]
[assembly: TestMethodOrderer(typeof(TestOrder))]

namespace GrandStair.Testing;

/// <summary>
/// Tests go in an order that is shuffled by their names, and the same on every machine; left alone, it would hang on the folder in which
/// they were built. <c>TEST_ORDER=2 ./test</c> goes through them in another one: none may count on what another left behind.
/// </summary>
public sealed class TestOrder : ITestCollectionOrderer, ITestMethodOrderer
{
    private static readonly string Which = Environment.GetEnvironmentVariable("TEST_ORDER") ?? "1";

    /// <inheritdoc />
    public IReadOnlyCollection<TTestCollection> OrderTestCollections<TTestCollection>(IReadOnlyCollection<TTestCollection> testCollections)
        where TTestCollection : ITestCollection => Shuffled(testCollections, c => c.TestCollectionDisplayName);

    /// <inheritdoc />
    public IReadOnlyCollection<TTestMethod?> OrderTestMethods<TTestMethod>(IReadOnlyCollection<TTestMethod?> testMethods)
        where TTestMethod : notnull, ITestMethod => Shuffled(testMethods, m => m?.MethodName ?? "");

    private static T[] Shuffled<T>(IEnumerable<T> all, Func<T, string> name) =>
        [
            .. all.OrderBy(
                one => Convert.ToHexString(SHA256.HashData(Encoding.UTF8.GetBytes($"{Which} {name(one)}"))),
                StringComparer.Ordinal
            ),
        ];
}
