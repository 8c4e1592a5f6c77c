using Skevin.Core.Query.Language;

namespace Skevin.Core.Query.Check;

/// <summary>Units follow the arithmetic.</summary>
public static class FormulaUnits
{
    /// <summary>The UCUM unit of two sides joined.</summary>
    /// <param name="joined">The operator and where it stands.</param>
    /// <param name="left">Unit of the left side.</param>
    /// <param name="leftBare">Whether the left side is a bare number, which takes the unit of what it is added to.</param>
    /// <param name="right">Unit of the right side.</param>
    /// <param name="rightBare">Whether the right side is a bare number.</param>
    /// <exception cref="EnquiryException">Different units are added or subtracted.</exception>
    public static string Of(JoinedFormula joined, string left, bool leftBare, string right, bool rightBare)
    {
        bool One(string unit) => unit is "" or "1";
        switch (joined.Operator)
        {
            case '+' or '-' or '<' or '>':
                if (leftBare || left == right || (One(left) && One(right)))
                    return right;
                if (rightBare)
                    return left;
                throw new EnquiryException(new(joined.At.Line, joined.At.Column, joined.Operator.ToString(),
                    $"{(One(left) ? "a number without unit" : left)} and {(One(right) ? "a number without unit" : right)} cannot be {joined.Operator switch { '+' => "added", '-' => "subtracted", _ => "compared" }}.", null));
            case '*':
                return One(left) ? right : One(right) ? left : $"{left}.{right}";
            default:
                return left == right ? "1" : One(right) ? left : One(left) ? $"1/{right}" : $"{left}/{right}";
        }
    }
}
