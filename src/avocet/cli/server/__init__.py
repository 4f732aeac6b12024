"""Commands that serve: the page, a simulated camera, the processes behind them, and a look at the machine."""
