"""Reading what strangers wrote in a process of its own that can do nothing else.

`sandbox` makes the walls, `frames` is what goes through them, `child` is what runs behind them, and `reader` is how the
others ask it.  What can be asked are the tasks in `looking`, `changing`, `judging` and `imagefile`.
"""
