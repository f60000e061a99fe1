package reply

import "varnet/core/finding"

// Stems shared by rules for 4xx and 5xx replies.
var (
	// listed: the words of hosts that refuse a client for its standing.
	listed = phrases(`
		blocklist
		block list
		blacklist
		black list
		blackhole
		dnsbl
		rbl.
		an rbl
		rbl check
		denylist
		listed at
		listed by
		is listed
		been listed
		listed on
		reputation
		client host…blocked
		client host rejected
		client address…rejected
		your ip
		your host
		your server
		your network
		your mail server
		ip address…blocked
		ip…is blocked
		ip…banned
		connecting ip
		sending ip
		sender ip
		mail from your
		messages from your
		connections from your
		reverse dns
		reverse lookup
		reverse hostname
		rdns
		ptr record
		no ptr
		generic hostname
		dynamic ip
		helo command rejected
		helo…rejected
		ehlo…rejected
		bad helo
		invalid helo
		forged helo
		not accepted from
		connection refused
		connection rejected
		connection not accepted
		we do not accept mail from
		adresse ip…bloqu
		ip-adresse…gesperrt
		ip…gesperrt
		ip…заблокирован
		auf…sperrliste
		en una lista negra
		lista de bloqueo
		liste noire
		lista nera
		czarnej li
		zwarte lijst
		в черном списке
		в чёрном списке`)

	// sender: refusals of our MAIL FROM, often held back until RCPT TO.
	sender = phrases(`
		sender address rejected
		sender rejected
		sender denied
		sender verify failed
		sender verification
		sender domain
		sender not
		sender blocked
		unable to verify sender
		could not verify sender
		cannot verify sender
		bad sender
		invalid sender
		mail from…reject
		mail from…not
		domain of sender
		return path
		envelope sender
		spf
		dmarc
		dkim
		absender
		expéditeur
		remitente
		mittente
		remetente
		afzender
		отправител`)

	// tooMuch: we are too many or too fast.
	tooMuch = phrases(`
		too many
		too much
		too fast
		rate limit
		rate-limit
		ratelimit
		rate exceeded
		throttl
		limit exceeded
		exceeded the
		slow down
		concurren
		connection limit
		try again more slowly
		unusual rate
		zu viele
		trop de
		demasiad
		troppi
		troppe
		muitas
		te veel
		слишком много
		zbyt wiele`)

	// greylist: strangers are put off at first.
	greylist = phrases(`
		greylist
		graylist
		grey list
		gray list
		grey-list
		gray-list
		greylst
		first time
		unknown triplet
		not yet been seen
		deferred for
		try again in
		retry in
		retry after
		come back
		wait…seconds
		wait…minutes
		minutes before
		please try later
		temporarily deferred
		liste grise
		lista gris`)

	// verifying: the host is itself still looking the mailbox up.
	verifying = phrases(`
		unverified
		address…verif
		verification in progress
		callout
		callback
		lookup fail
		lookup error
		temporary lookup`)

	full = phrases(`
		mailbox full
		mailbox is full
		mailbox…full
		mailbox…exceed
		inbox is full
		over quota
		overquota
		over its quota
		over the quota
		over their quota
		quota exceed
		exceeded…quota
		exceeded storage
		exceeded…storage
		out of storage
		insufficient…storage for
		storage space
		not enough space
		no space left in mailbox
		user…full
		postfach…voll
		speicherplatz
		kontingent
		boîte…pleine
		boite…pleine
		quota…dépass
		quota…depass
		buzón…lleno
		buzon…lleno
		cuota
		casella…piena
		caixa…cheia
		mailbox…vol
		ящик…переполнен
		skrzynka…pełna`)

	disabled = phrases(`
		disabled
		deactivat
		suspended
		inactive
		not active
		no longer active
		is locked
		been locked
		account locked
		mailbox locked
		account…blocked
		account…closed
		mailbox…blocked
		mailbox…closed
		user…blocked
		been blocked…user
		discontinued
		account…terminated
		mailbox…terminated
		account…expired
		mailbox…expired
		deaktiviert
		gesperrt
		désactiv
		desactiv
		suspendu
		inhabilitad
		disabilitat
		sospes
		desativad
		geblokkeerd
		uitgeschakeld
		отключен
		заблокирован
		zablokowan`)

	moved = phrases(`
		has moved
		moved to
		user not local
		not local; please try
		new address
		changed address
		address has changed
		no longer at this
		please try <
		umgezogen
		neue adresse
		nouvelle adresse
		nueva dirección`)

	// relay: the wrong host was asked, or the domain left it.
	relay = phrases(`
		relay
		not a local domain
		not local host
		not hosted here
		domain not found
		domain…not…accept
		domain…not handled
		domain…unknown
		domain…not…configured
		domain…isn't in my list
		not in my list of allowed
		don't handle mail for
		do not handle mail for
		weiterleitung nicht
		relais`)

	restricted = phrases(`
		not accept…from external
		not accept…external
		external sender
		internal…only
		only…internal
		members only
		only accepts mail from
		not allowed to send to
		not authorized to send to
		not permitted to send to
		not authorised to send
		restricted
		does not accept…from you
		requires…authenticat…sender
		authenticated senders
		permission to send
		refuses to accept
		delivery not authorized
		delivery not authorised`)

	absent = phrases(`
		user unknown
		unknown user
		unknown recipient
		unknown local
		unknown mailbox
		unknown address
		unknown account
		unknown email
		unknown to
		recipient unknown
		recipient…unknown
		address unknown
		mailbox unknown
		account unknown
		no such
		no mailbox
		no user
		no recipient
		no account
		no valid recipient
		does not exist
		doesn't exist
		doesnt exist
		not exist
		not found
		cannot be found
		could not be found
		couldn't be found
		can't be found
		cannot find
		isn't here
		nobody here
		not known here
		not our customer
		not a valid
		not a known
		not valid
		isn't a valid
		invalid recipient
		invalid mailbox
		invalid address
		invalid user
		invalid account
		bad destination
		bad recipient
		bad address
		non-existent
		nonexistent
		non existent
		undeliverable address
		recipient undeliverable
		mailbox unavailable
		mailbox not available
		mailbox…not available
		address rejected
		recipient rejected
		recipient address rejected
		recipient not accepted
		recipient…not recognized
		recipient…not recognised
		unrecognized recipient
		unrouteable
		unroutable
		not listed in
		not in directory
		not a member
		no longer available
		no longer valid
		no longer exist
		no longer with
		no longer work
		never existed
		has left
		unbekannt
		existiert nicht
		nicht gefunden
		kein postfach
		kein benutzer
		nicht vorhanden
		empfänger…nicht
		inconnu
		n'existe pas
		introuvable
		destinataire…invalide
		no existe
		desconocid
		no encontrad
		destinatario…no
		non esiste
		sconosciut
		inesistente
		não existe
		nao existe
		desconhecid
		inexistente
		onbekend
		bestaat niet
		niet gevonden
		ukendt
		okänd
		finnes ikke
		findes ikke
		finns inte
		ei löydy
		tuntematon
		nie istnieje
		nieznany
		neexistuje
		neznám
		не существует
		неизвестн
		не найден
		нет такого
		存在しません
		不存在
		없는`)
)

// rules are held against a reply from top to bottom. The order is the order of
// trust: what the text plainly says of us goes before every code, since hosts
// give a refusal of the client the codes of a refusal of the mailbox; then the
// enhanced code; then the text under the basic code; then the basic code alone.
var rules = []rule{
	// ---- 2xx
	{codes: []int{250, 251}, phrases: phrases("unknown user\nuser unknown\nno such user\nnot exist"),
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "It takes the mail and says in the same breath that there is no such user."},
		example: "250 2.1.5 ok, queued for unknown user"},
	{codes: []int{252},
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "RFC 5321 section 3.5.3: the host will try, but has not looked."},
		example: "252 2.0.0 cannot verify, but will take the message"},
	{codes: []int{2},
		Meaning: Meaning{Mailbox, Accepted, finding.MailboxAccepted, "The host takes mail for this mailbox."},
		example: "250 2.1.5 ok"},

	// ---- full: 452 is about room, and 552 and x.2.2 say so outright
	{codes: []int{4, 5}, enhanced: []string{"2.2"},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "RFC 3463 x.2.2: mailbox full."},
		example: "552 5.2.2 mailbox over quota"},
	{codes: []int{552, 452, 450, 550, 554, 422, 451}, phrases: full,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxFull, "The text says that the mailbox has no room left."},
		example: "452 the mailbox is full"},

	// ---- 4xx: the moment, or us
	{codes: []int{4}, phrases: greylist,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "Greylisting (RFC 6647): strangers are put off at first."},
		example: "451 4.7.1 greylisted, try again in 300 seconds"},
	{codes: []int{4}, phrases: tooMuch,
		Meaning: Meaning{Us, Postponed, finding.ExchangerThrottles, "The host counts what we ask and has had enough for now."},
		example: "451 4.7.0 too many recipients from your address, slow down"},
	{codes: []int{4}, phrases: listed,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "A refusal of the client, put mildly as a 4xx."},
		example: "450 4.7.1 client host rejected: cannot find your reverse hostname"},
	{codes: []int{4}, phrases: sender,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host could not satisfy itself about our sender."},
		example: "450 4.1.8 sender address rejected: domain not found"},
	{codes: []int{4}, phrases: verifying,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "The host is itself still looking the mailbox up."},
		example: "450 4.1.1 recipient address rejected: unverified address: address verification in progress"},
	{codes: []int{4}, phrases: disabled,
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "It hints at a mailbox that is switched off, but not for good."},
		example: "450 4.2.1 account is temporarily suspended"},
	{codes: []int{450}, enhanced: []string{"1.1", "1.0"},
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "A cautious host gives an unknown user a 4xx; ask again, then weigh it."},
		example: "450 4.1.1 user unknown in local recipient table"},
	{codes: []int{450, 451}, enhanced: []string{"7.1", "7.0"},
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "Put off by policy without a reason given: as greylisting does."},
		example: "450 4.7.1 please come again"},
	{codes: []int{450}, phrases: absent,
		Meaning: Meaning{Mailbox, Postponed, finding.MailboxUnclear, "A 4xx that carries a definite no: ask again, then weigh it."},
		example: "450 no such user here"},
	{codes: []int{4},
		Meaning: Meaning{Moment, Postponed, finding.ExchangerUnavailable, "A 4xx of the host's own: the moment is bad (RFC 5321 section 4.2.1)."},
		example: "451 4.3.0 local error in processing"},

	// ---- 5xx about us, whatever the code
	{codes: []int{5}, phrases: tooMuch,
		Meaning: Meaning{Us, Postponed, finding.ExchangerThrottles, "The session has gone over a limit; it is not about this recipient."},
		example: "550 too many unknown users in this session"},
	{codes: []int{5}, phrases: listed,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The host refuses the client for its standing or its name."},
		example: "550 5.7.1 service unavailable; client host blocked using a blocklist"},
	{codes: []int{5}, phrases: sender,
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "A refusal of our sender; some hosts hold it back until the recipient is named."},
		example: "550 5.1.8 sender address rejected: domain not found"},
	{codes: []int{5}, enhanced: []string{"1.7", "1.8", "7.23", "7.24", "7.25", "7.26", "7.27"},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "RFC 3463 and RFC 7372: the sender's address or its proofs are found wanting."},
		example: "550 5.7.25 no proof of who you are"},
	{codes: []int{530}, phrases: phrases("starttls\ntls\nencrypt"),
		Meaning: Meaning{Us, Refused, finding.ExchangerNeedsTLS, "RFC 3207: the host wants encryption first."},
		example: "530 5.7.0 must issue a STARTTLS command first"},
	{codes: []int{503, 530, 535, 538},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "The session is not allowed to ask: it is about us."},
		example: "530 5.7.0 authentication required"},

	// ---- 5xx by enhanced code
	{codes: []int{5}, enhanced: []string{"1.6"},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "RFC 3463 x.1.6: the mailbox has moved."},
		example: "551 5.1.6 recipient has moved"},
	{codes: []int{5}, enhanced: []string{"2.1"},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxDisabled, "RFC 3463 x.2.1: the mailbox is switched off."},
		example: "550 5.2.1 the account is disabled"},
	{codes: []int{5}, phrases: disabled,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxDisabled, "The text says that the mailbox is switched off."},
		example: "550 this account has been suspended"},
	{codes: []int{5}, enhanced: []string{"7.1", "7.0", "7.2", "7.13"}, phrases: restricted,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxRestricted, "The mailbox takes mail from chosen senders only."},
		example: "550 5.7.1 only accepts mail from internal senders"},
	{codes: []int{5}, enhanced: []string{"1.1", "1.2", "1.3", "1.10"},
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "RFC 3463 x.1.1 and kin: a bad destination address."},
		example: "550 5.1.1 user unknown"},
	{codes: []int{5}, phrases: relay,
		Meaning: Meaning{Domain, Unclear, finding.MailboxUnclear, "The host does not take mail for the domain: a wrong host, not a missing mailbox."},
		example: "554 5.7.1 relay access denied"},

	// ---- 5xx by text
	{codes: []int{551}, phrases: moved,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "RFC 5321 section 3.4: the person has another address now."},
		example: "551 user not local; please try elsewhere"},
	{codes: []int{5}, phrases: phrases("has moved\numgezogen\nnouvelle adresse"),
		Meaning: Meaning{Mailbox, Refused, finding.MailboxMoved, "The text says that the person has another address now."},
		example: "550 the user has moved"},
	{codes: []int{5}, phrases: restricted,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxRestricted, "The mailbox takes mail from chosen senders only."},
		example: "550 not authorized to send to this list"},
	{codes: []int{5}, phrases: absent,
		Meaning: Meaning{Mailbox, Refused, finding.MailboxAbsent, "The text says that there is no such mailbox."},
		example: "550 no such user here"},
	{codes: []int{5}, phrases: greylist,
		Meaning: Meaning{Moment, Postponed, finding.ExchangerPostponed, "Greylisting by a host that uses the wrong class of code."},
		example: "550 greylisted, please try later"},

	// ---- 5xx by code alone
	{codes: []int{5}, enhanced: []string{"7."},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "RFC 3463 x.7.x without a word about the mailbox: a matter of policy, hence of us."},
		example: "550 5.7.1 message refused by policy"},
	{codes: []int{5}, enhanced: []string{"3.", "4.", "5."},
		Meaning: Meaning{Moment, Unclear, finding.ExchangerUnavailable, "RFC 3463 x.3, x.4, x.5: the system, the network or the protocol, not the mailbox."},
		example: "554 5.3.0 other mail system problem"},
	{codes: []int{571},
		Meaning: Meaning{Us, Refused, finding.ExchangerBlocksUs, "571 is used for refusals by policy."},
		example: "571 delivery not wanted"},
	{codes: []int{550, 553},
		Meaning: Meaning{Mailbox, Unclear, finding.MailboxUnclear, "A bare 550 may be about the mailbox or about us; it does not say."},
		example: "550 no"},
	{codes: []int{5},
		Meaning: Meaning{Moment, Unclear, finding.MailboxUnclear, "A refusal that does not say whom it is about."},
		example: "554 transaction failed"},
}
