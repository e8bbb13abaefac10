using System.Text;
using GentleCourier.Amqp.Events;
using GentleCourier.Amqp.Performatives;
using GentleCourier.Amqp.Types;

namespace GentleCourier.Amqp.Tests;

/// <summary>Things as they go over the wire.</summary>
internal static class Samples
{
    public static string Json(int number) => $$$"""
        {"specversion":"1.0","id":"tap-{{{number}}}","source":"/gates","type":"test.tap","data":{"number":{{{number}}}}}
        """;

    /// <summary>The same, with so many characters more.</summary>
    public static string Json(int number, int size) => $$$"""
        {"specversion":"1.0","id":"tap-{{{number}}}","source":"/gates","type":"test.tap",
         "data":"{{{new string('x', size)}}}"}
        """;

    public static byte[] MessageOf(string json)
    {
        using var writer = new CloudEventWriter();
        using var buffer = new WireBuffer();
        writer.Write(Encoding.UTF8.GetBytes(json), buffer);
        return buffer.Written.ToArray();
    }

    /// <summary>Bodies of frames, of every kind.</summary>
    public static IEnumerable<byte[]> Frames() =>
    [
        Body(Open.Shape, new Open { ContainerId = "peer", IdleTimeOut = 60000, OfferedCapabilities = ["one", "two"] }),
        Body(Begin.Shape, new Begin { RemoteChannel = 0, IncomingWindow = 100, OutgoingWindow = 100 }),
        Body(Attach.Shape, new Attach
        {
            Name = "link", Handle = 1, Source = new Source { Address = "taps" }, Target = new Target(),
            Unsettled = new WireMap { { new Binary(new byte[4]), null } }, InitialDeliveryCount = 7,
        }),
        Body(FlowState.Shape, new FlowState { NextIncomingId = 5, IncomingWindow = 100, Handle = 1, LinkCredit = 10 }),
        [.. Body(Transfer.Shape, new Transfer
        {
            Handle = 1, DeliveryId = 3, Tag = DeliveryTag.Of(3), State = new Received { SectionNumber = 1 },
        }), .. MessageOf(Json(1))],
        Body(Disposition.Shape, new Disposition
        {
            IsReceiver = true, First = 3, Last = 9, Settled = true,
            State = new Rejected { Error = AmqpError.Of(Conditions.NotAllowed, "no") },
        }),
        Body(Detach.Shape, new Detach { Handle = 1, Closed = true, Error = AmqpError.Of(Conditions.NotFound, "gone") }),
        Body(End.Shape, new End()),
        Body(Close.Shape, new Close { Error = AmqpError.Of(Conditions.InternalError, "it fell over") }),
    ];

    /// <summary>Messages with an event in them, and other ones.</summary>
    public static IEnumerable<byte[]> Messages() =>
    [
        MessageOf(Json(1)),
        MessageOf("""
            {"specversion":"1.0","id":"é\n","source":"/g","type":"t","count":3,"yes":true,"deep":{"a":1},"data":[1]}
            """),
        MessageOf("""{"specversion":"1.0","id":"1","source":"/g","type":"t","data_base64":"AAEC"}"""),
    ];

    public static byte[] Body<T>(Composite<T> shape, T performative) where T : class, new()
    {
        using var buffer = new WireBuffer();
        shape.Write(buffer, performative);
        return buffer.Written.ToArray();
    }
}
