"""Model and board side by side: figures, verdicts, findings, and what lies behind them."""
