using Microsoft.CodeAnalysis;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;
using Xunit;

namespace GrandStair.Core.Tests;

/// <summary>How large methods and classes of the product may be, and which are larger for a reason.</summary>
public sealed class SizeTests
{
    private const int MostLines = 60;
    private const int MostParameters = 8;
    private const int MostCollaborators = 7;

    private static readonly SyntaxNode[] Files =
    [
        .. House.Sources("src").Select(f => CSharpSyntaxTree.ParseText(File.ReadAllText(f), path: f).GetRoot()),
    ];

    [Fact]
    public void No_method_is_longer_than_a_screen_unless_a_reason_is_given() =>
        Check(Files.SelectMany(LongMethods), LargerForAReason.Lines);

    [Fact]
    public void No_method_has_more_than_eight_parameters_unless_a_reason_is_given() =>
        Check(Files.SelectMany(WideMethods), LargerForAReason.Parameters);

    [Fact]
    public void No_class_has_more_than_seven_collaborators_unless_a_reason_is_given() =>
        Check(Files.SelectMany(CrowdedClasses), LargerForAReason.Collaborators);

    /// <summary>What is too large has a reason, and nothing has a reason that is not too large any more.</summary>
    private static void Check(IEnumerable<(string Name, int Size)> tooLarge, IEnumerable<(string Why, string[] Names)> reasons)
    {
        var found = tooLarge.ToArray();
        var reasoned = reasons.SelectMany(r => r.Names).ToArray();
        Assert.Empty(found.Where(f => !reasoned.Contains(f.Name)).Select(f => $"{f.Name} has {f.Size}").Order());
        Assert.Empty(reasoned.Except(found.Select(f => f.Name)));
    }

    private static IEnumerable<(string Name, int Lines)> LongMethods(SyntaxNode file) =>
        from method in file.DescendantNodes().OfType<BaseMethodDeclarationSyntax>()
        let body = (SyntaxNode?)method.Body ?? method.ExpressionBody
        where body is not null
        let span = body.GetLocation().GetLineSpan()
        let lines = span.EndLinePosition.Line - span.StartLinePosition.Line + 1
        where lines > MostLines
        select (Name(method), lines);

    private static IEnumerable<(string Name, int Count)> WideMethods(SyntaxNode file) =>
        from method in file.DescendantNodes().OfType<MethodDeclarationSyntax>()
        where method.ParameterList.Parameters.Count > MostParameters
        select (Name(method), method.ParameterList.Parameters.Count);

    /// <summary>Classes whose constructor takes many things; what a record takes is its content.</summary>
    private static IEnumerable<(string Name, int Count)> CrowdedClasses(SyntaxNode file) =>
        from type in file.DescendantNodes().OfType<ClassDeclarationSyntax>()
        let count = type
            .Members.OfType<ConstructorDeclarationSyntax>()
            .Select(c => c.ParameterList.Parameters.Count)
            .Append(type.ParameterList?.Parameters.Count ?? 0)
            .Max()
        where count > MostCollaborators
        select (type.Identifier.Text, count);

    private static string Name(BaseMethodDeclarationSyntax method) =>
        method.Ancestors().OfType<BaseTypeDeclarationSyntax>().First().Identifier.Text
        + "."
        + (method is MethodDeclarationSyntax named ? named.Identifier.Text : "new");
}
