// Lists the devices that answer to a broadcast, then reads the Identity object of one over a session.
// usage: cip_client.js ADDRESS
const {Browser, EthernetIP, Controller} = require("st-ethernet-ip");

const {MessageRouter, EPATH} = EthernetIP.CIP;
const address = process.argv[2];
const browser = new Browser(51687, "0.0.0.0", true, 500);
const found = [];

browser.on("New Device", (device) => {
    found.push(`${device.socketAddress.sin_addr} ${device.productName} ${device.vendorID} ${device.productCode} ` +
               `${device.revision} ${device.state}`);
});

async function read() {
    browser.stop();
    browser.socket.close();
    found.sort().forEach((line) => console.log("listed", line));
    const client = new EthernetIP.ENIP();
    await client.connect(address);
    const path = Buffer.concat([
        EPATH.segments.LOGICAL.build(EPATH.segments.LOGICAL.types.ClassID, 0x01),
        EPATH.segments.LOGICAL.build(EPATH.segments.LOGICAL.types.InstanceID, 0x01),
    ]);
    client.on("SendRRData Received", (items) => {
        const answer = MessageRouter.parse(items.find((item) => item.TypeID === 0xb2).data);
        console.log("read", answer.generalStatusCode, answer.data.readUInt16LE(0), answer.data.readUInt16LE(4),
                    `${answer.data[6]}.${answer.data[7]}`, answer.data.subarray(15, 15 + answer.data[14]).toString());
        client.destroy();
        process.exit(0);
    });
    client.write_cip(MessageRouter.build(0x01, path, []));
}

setTimeout(() => read().catch((problem) => {
    console.error(problem);
    process.exit(1);
}), 1800);
setTimeout(() => process.exit(2), 12000);
