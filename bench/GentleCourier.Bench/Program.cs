using GentleCourier.Bench;

// usage: GentleCourier.Bench [NAME …] [--rounds 20] [--against FOLDER]
//        GentleCourier.Bench budget [ENGINE …] [--rates 1,100,1000,0] [--against FOLDER] [--statements]
//        GentleCourier.Bench prefetch | scale | wake | idle | memory | postgres | watch | telemetry
//        GentleCourier.Bench amqp [EVENTS] | amqp-port [EVENTS] [apart] | amqp-large [EVENTS] | amqp-far
//        GentleCourier.Bench postgres-long [EVENTS] | status [EVENTS] | retention [EVENTS] | held [EVENTS]
//        GentleCourier.Bench inbox [EVENTS [sqlite|postgres [KIND]]]
//        GentleCourier.Bench later [EVENTS] | handling [EVENTS] | publishing [EVENTS]
//        GentleCourier.Bench keys [EVENTS [ENGINE]] | key-order [EVENTS]
//        GentleCourier.Bench trials [AT_ONCE [sqlite|postgres]]
return args is [var measurement, ..] && Measurements.Find(measurement) is { } measure
    ? await measure(args[1..]) : await Rounds.RunAsync(args);
