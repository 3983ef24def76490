pub mod stopwatch;
