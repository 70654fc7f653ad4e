package mqtt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/eclipse/paho.golang/packets"
	five "github.com/eclipse/paho.golang/paho"
	four "github.com/eclipse/paho.mqtt.golang"
)

// client is a session with a broker, in one of the versions of the protocol. Codes
// from 0x80 on, and those of a connect that are not 0, are refusals.
type client interface {
	subscribe(ctx context.Context, topics []string, qos byte) (codes []int, err error)
	unsubscribe(ctx context.Context, topic string) error
	publish(ctx context.Context, m *message) (code int, err error)
	// close ends the session in order: the broker then sends no will.
	close()
}

// message is one that goes out, or came.
type message struct {
	topic    string
	payload  []byte
	qos      byte
	retained bool
}

// session is what a client begins with.
type session struct {
	id, user string
	password []byte
	alive    time.Duration
	within   time.Duration
	will     *message
	over     *watched // the connection, once there is one
	came     func(message)
	// lost is told once that the session has ended, with the reason code of the broker,
	// 0 for none.
	lost func(code int, err error)
}

// refused is a connect that the broker does not accept.
type refused int

func (r refused) Error() string {
	return fmt.Sprintf("the broker refuses the session, code %d", int(r))
}

// version4 is MQTT 3.1.1.
type version4 struct {
	client four.Client
	within time.Duration
}

func connect4(conn net.Conn, s *session) (client, error) {
	o := four.NewClientOptions().AddBroker("tcp://broker").SetClientID(s.id).SetUsername(s.user).
		SetPassword(string(s.password)).SetProtocolVersion(4).SetCleanSession(true).SetAutoReconnect(false).
		SetConnectRetry(false).SetKeepAlive(s.alive).SetPingTimeout(s.within).SetConnectTimeout(s.within).
		SetWriteTimeout(s.within).SetOrderMatters(true)
	o.SetCustomOpenConnectionFn(func(*url.URL, four.ClientOptions) (net.Conn, error) { return conn, nil })
	o.SetDefaultPublishHandler(func(_ four.Client, m four.Message) {
		s.came(message{m.Topic(), m.Payload(), m.Qos(), m.Retained()})
	})
	o.SetConnectionLostHandler(func(_ four.Client, err error) { s.lost(0, err) })
	if s.will != nil {
		o.SetBinaryWill(s.will.topic, s.will.payload, s.will.qos, s.will.retained)
	}
	c := version4{four.NewClient(o), s.within}
	token := c.client.Connect()
	if !token.WaitTimeout(s.within + time.Second) {
		return nil, context.DeadlineExceeded
	}
	if t, ok := token.(*four.ConnectToken); ok && t.ReturnCode() > 0 && t.ReturnCode() <= 5 {
		return nil, refused(t.ReturnCode())
	}
	return c, token.Error()
}

// wait waits for a token, but no longer than ctx.
func (c version4) wait(ctx context.Context, token four.Token) error {
	select {
	case <-token.Done():
		return token.Error()
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(c.within):
		return context.DeadlineExceeded
	}
}

func (c version4) subscribe(ctx context.Context, topics []string, qos byte) ([]int, error) {
	filters := make(map[string]byte, len(topics))
	for _, topic := range topics {
		filters[topic] = qos
	}
	token := c.client.SubscribeMultiple(filters, nil)
	if err := c.wait(ctx, token); err != nil {
		return nil, err
	}
	codes := make([]int, len(topics))
	if t, ok := token.(*four.SubscribeToken); ok {
		granted := t.Result()
		for i, topic := range topics {
			codes[i] = int(granted[topic])
		}
	}
	return codes, nil
}

func (c version4) unsubscribe(ctx context.Context, topic string) error {
	return c.wait(ctx, c.client.Unsubscribe(topic))
}

func (c version4) publish(ctx context.Context, m *message) (int, error) {
	return 0, c.wait(ctx, c.client.Publish(m.topic, m.qos, m.retained, m.payload))
}

func (c version4) close() { c.client.Disconnect(50) }

// version5 is MQTT 5.
type version5 struct {
	client *five.Client
	within time.Duration
}

func connect5(conn net.Conn, s *session) (client, error) {
	c := version5{within: s.within}
	c.client = five.NewClient(five.ClientConfig{ClientID: s.id, Conn: packets.NewThreadSafeConn(conn),
		PacketTimeout: s.within,
		OnPublishReceived: []func(five.PublishReceived) (bool, error){func(p five.PublishReceived) (bool, error) {
			s.came(message{p.Packet.Topic, p.Packet.Payload, p.Packet.QoS, p.Packet.Retain})
			return true, nil
		}},
		OnServerDisconnect: func(d *five.Disconnect) {
			s.lost(int(d.ReasonCode),
				errors.New("the broker ended the session"))
		},
		OnClientError: func(err error) { s.lost(0, err) },
	})
	connect := &five.Connect{ClientID: s.id, CleanStart: true, KeepAlive: uint16(s.alive / time.Second),
		Username: s.user, UsernameFlag: s.user != "", Password: s.password, PasswordFlag: len(s.password) > 0}
	if s.will != nil {
		connect.WillMessage = &five.WillMessage{Topic: s.will.topic, Payload: s.will.payload, QoS: s.will.qos,
			Retain: s.will.retained}
	}
	ctx, cancel := context.WithTimeout(context.Background(), s.within)
	defer cancel()
	answer, err := c.client.Connect(ctx, connect)
	if answer != nil && answer.ReasonCode >= 0x80 {
		return nil, refused(answer.ReasonCode)
	}
	return c, err
}

func (c version5) subscribe(ctx context.Context, topics []string, qos byte) ([]int, error) {
	s := &five.Subscribe{}
	for _, topic := range topics {
		s.Subscriptions = append(s.Subscriptions, five.SubscribeOptions{Topic: topic, QoS: qos})
	}
	answer, err := c.client.Subscribe(ctx, s)
	if answer == nil {
		return nil, err
	}
	codes := make([]int, len(topics))
	for i := range min(len(codes), len(answer.Reasons)) {
		codes[i] = int(answer.Reasons[i])
	}
	return codes, nil
}

func (c version5) unsubscribe(ctx context.Context, topic string) error {
	_, err := c.client.Unsubscribe(ctx, &five.Unsubscribe{Topics: []string{topic}})
	return err
}

func (c version5) publish(ctx context.Context, m *message) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	answer, err := c.client.Publish(ctx, &five.Publish{Topic: m.topic, Payload: m.payload, QoS: m.qos,
		Retain: m.retained})
	if answer != nil && answer.ReasonCode >= 0x80 {
		return int(answer.ReasonCode), nil
	}
	return 0, err
}

func (c version5) close() { _ = c.client.Disconnect(&five.Disconnect{}) } // the broker may have gone already
