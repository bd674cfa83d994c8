//! Addresses and the networks they are in.

use super::per_text::{coerced, constant, texts_of_texts, truths_of_texts};
use super::{Function, Kind};
use crate::schema::text;
use arrow::datatypes::DataType;
use datafusion::common::{ScalarValue, plan_err};
use datafusion::error::Result;
use datafusion::logical_expr::{ColumnarValue, ScalarFunctionArgs, ScalarUDFImpl, Signature, Volatility};
use ipnet::IpNet;
use std::borrow::Cow;
use std::net::IpAddr;

/// The name of the function that readers can test themselves.
pub const IN_NETWORK: &str = "in_network";

/// What people are told of it.
pub const NETWORK: Function = Function {
    name: "network",
    usage: "network(client [, bits of IPv4 [, bits of IPv6]])",
    meaning: "The network that an address is in: its first 24 bits, or 48 of IPv6, unless said otherwise.",
    example: "select network(client, 24) as network, count(*) as requests from requests group by network order by requests desc limit 10",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of it.
pub const WITHIN: Function = Function {
    name: IN_NETWORK,
    usage: "in_network(client, network)",
    meaning: "Whether an address is in a network.",
    example: "select client, count(*) as requests from requests where in_network(client, '198.18.0.0/15') group by client",
    kind: Kind::Row,
    is_own: true,
};

/// A network, or an address alone.
pub fn network_of(text: &str) -> Option<IpNet> {
    let address = || text.trim().parse::<IpAddr>().ok().map(|address| address.to_canonical().into());
    text.trim().parse::<IpNet>().ok().or_else(address)
}

/// The network of an address.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Network(Signature);

impl Default for Network {
    fn default() -> Self {
        Network(Signature::user_defined(Volatility::Immutable))
    }
}

impl ScalarUDFImpl for Network {
    fn name(&self) -> &'static str {
        NETWORK.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given.len() {
            1..=3 => coerced(NETWORK.name, given, &[None, Some(DataType::Int64), Some(DataType::Int64)]),
            _ => plan_err!("network takes an address and how many bits, as in network(client, 24)"),
        }
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let bits = |place: usize, usual: u8, most: u8| match given.args.get(place) {
            None => Ok(usual),
            Some(ColumnarValue::Scalar(ScalarValue::Int64(Some(bits)))) => {
                u8::try_from(*bits).ok().filter(|bits| *bits <= most).map_or_else(
                    || plan_err!("a network of such an address has 0 to {most} bits, not {bits}"),
                    Ok,
                )
            }
            Some(_) => plan_err!("network: how many bits is written out, the same for all rows"),
        };
        let (of_4, of_6) = (bits(1, 24, 32)?, bits(2, 48, 128)?);
        let Some(clients) = given.args.first() else { return plan_err!("network takes an address") };
        texts_of_texts(clients, |client| {
            let address = client.parse::<IpAddr>().ok()?.to_canonical();
            let bits = if address.is_ipv4() { of_4 } else { of_6 };
            Some(Cow::Owned(IpNet::new(address, bits).ok()?.trunc().to_string()))
        })
    }
}

/// Whether an address is in a network.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct InNetwork(Signature);

impl Default for InNetwork {
    fn default() -> Self {
        InNetwork(Signature::user_defined(Volatility::Immutable))
    }
}

impl ScalarUDFImpl for InNetwork {
    fn name(&self) -> &'static str {
        IN_NETWORK
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given.len() {
            2 => coerced(IN_NETWORK, given, &[None, Some(DataType::Utf8)]),
            _ => plan_err!(
                "in_network takes an address and a network, as in in_network(client, '198.18.0.0/15')"
            ),
        }
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(DataType::Boolean)
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [clients, network] = &given.args[..] else { return plan_err!("in_network takes two values") };
        let written = constant(network, IN_NETWORK, "the network")?;
        let Some(network) = network_of(written) else {
            return plan_err!("`{written}` is no network: write it like 198.18.0.0/15 or 2001:db8::/32");
        };
        let network = network.trunc();
        truths_of_texts(clients, |client| {
            client.parse::<IpAddr>().is_ok_and(|address| network.contains(&address.to_canonical()))
        })
    }
}
